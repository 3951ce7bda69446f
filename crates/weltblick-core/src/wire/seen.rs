//! What a decoder of an instruction trace told, for tests.

use super::{Decoder, Grammar, Malformed, Sink};
use std::fmt::Debug;
use std::ops::Range;

#[derive(Debug, Clone, PartialEq)]
pub(super) enum Seen<P> {
    Packet(Range<u64>, P),
    Loss(Range<u64>, Malformed),
}

pub(super) struct Recorder<P>(pub(super) Vec<Seen<P>>);

impl<P> Sink<P> for Recorder<P> {
    fn packet(&mut self, at: Range<u64>, packet: P) {
        self.0.push(Seen::Packet(at, packet));
    }
    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        self.0.push(Seen::Loss(at, why));
    }
}

impl<P> Seen<P> {
    pub(super) fn range(&self) -> Range<u64> {
        match self {
            Self::Packet(at, _) | Self::Loss(at, _) => at.clone(),
        }
    }

    fn moved(self, by: u64) -> Self {
        match self {
            Self::Packet(at, packet) => Self::Packet(at.start + by..at.end + by, packet),
            Self::Loss(at, why) => Self::Loss(at.start + by..at.end + by, why),
        }
    }
}

pub(super) fn decode<'a, G: Grammar>(
    mut decoder: Decoder<G>,
    chunks: impl Iterator<Item = &'a [u8]>,
) -> Vec<Seen<G::Packet>> {
    let mut recorder = Recorder(Vec::new());
    for chunk in chunks {
        decoder.push(chunk, &mut recorder);
    }
    decoder.finish(&mut recorder);
    recorder.0
}

/// Every byte is in one packet or loss, in order, and where the stream was cut does not show.
pub(super) fn assert_accounted<G: Grammar>(decoder: &Decoder<G>, stream: &[u8], cut: usize)
where
    G::Packet: Debug + PartialEq,
    Decoder<G>: Clone,
{
    let seen = decode(decoder.clone(), std::iter::once(stream));
    let end = seen
        .iter()
        .map(Seen::range)
        .try_fold(0, |next, at| (at.start == next && at.end > next).then_some(at.end));
    assert_eq!(end, Some(stream.len() as u64), "gap or overlap: {seen:?}");
    assert_eq!(decode(decoder.clone(), stream.chunks(cut)), seen, "where it was cut must not show");
}

/// After `damaged` bytes, everything from the synchronisation on with which `tail` begins is as if
/// nothing had been before.
pub(super) fn assert_recovers<G: Grammar>(decoder: &Decoder<G>, damaged: &[u8], tail: &[u8])
where
    G::Packet: Debug + PartialEq,
    Decoder<G>: Clone,
{
    let seen = decode(decoder.clone(), std::iter::once(&[damaged, tail].concat()[..]));
    let expected: Vec<_> = decode(decoder.clone(), std::iter::once(tail))
        .into_iter()
        .skip(1) // the synchronisation may take zeros before it as its own
        .map(|seen| seen.moved(damaged.len() as u64))
        .collect();
    assert!(seen.ends_with(&expected), "{seen:?}\n{expected:?}");
}
