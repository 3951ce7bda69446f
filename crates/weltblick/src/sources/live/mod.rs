//! Bytes from a running target into a capture folder.
//!
//! Every source has a thread that reads and sends [`Message`]s. One thread, the [`recorder`],
//! receives them, writes everything to the folder at once, and passes the bytes on to whoever
//! watches, if he keeps up.

mod address;
mod pipes;
mod recorder;
mod standin;
mod store;

pub(crate) use address::Address;
pub(crate) use pipes::Reader;
pub(crate) use recorder::{Limits, Recorder, Seen, Sources, Summary};
pub(crate) use standin::StandIn;
pub(crate) use store::{Keep, Store, check_place, choose_folder};

use std::sync::mpsc::SyncSender;
use weltblick_core::capture::What;

/// Messages that may wait for the recorder: then sources wait too.
pub(crate) const MOST_MESSAGES: usize = 64;

/// What a source tells the recorder.
#[derive(Debug)]
pub(crate) enum Message {
    /// Bytes of a stream, as they came.
    Bytes {
        /// Which stream.
        stream: usize,
        /// They.
        bytes: Vec<u8>,
    },
    /// Bytes that explain later ones: kept also while nothing else is.
    Preface {
        /// Which stream.
        stream: usize,
        /// They.
        bytes: Vec<u8>,
    },
    /// Whether what comes from now on lies between the points that were asked for.
    Watch(bool),
    /// Something for the journal.
    Happened {
        /// To which stream.
        stream: Option<usize>,
        /// What.
        what: What,
        /// More, for people.
        detail: Option<String>,
    },
    /// A source has no more.
    Ended {
        /// Why, if not because it came to its end.
        error: Option<String>,
    },
    /// Everything is to end, and why.
    Stop(String),
}

/// Where sources send what they have.
pub(crate) type Outbox = SyncSender<Message>;
