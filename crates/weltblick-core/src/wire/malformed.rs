//! Why a decoder could not read on.

/// Why bytes could not be read as a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Malformed {
    /// A header that the protocol reserves.
    ReservedHeader,
    /// A payload value or length that the protocol does not know for this header.
    ReservedPayload,
    /// A timestamp or extension that goes on past its longest form.
    TooLong,
    /// Zero bytes that do not end in a synchronisation.
    BrokenSync,
    /// Zeros where packets were: something else wrote there.
    Erased,
    /// The stream ended inside a packet.
    CutOff,
    /// The framing around this stream lost bytes.
    FramingLoss,
    /// The recording starts inside a packet: a buffer wrapped, or somebody listened too late.
    StartsInside,
    /// Nobody wanted what stands before them: they lead up to the next synchronisation.
    Unwanted,
}

impl Malformed {
    /// One line for people.
    #[must_use]
    pub const fn describe(self) -> &'static str {
        match self {
            Self::ReservedHeader => "reserved packet header",
            Self::ReservedPayload => "reserved payload",
            Self::TooLong => "packet longer than the protocol allows",
            Self::BrokenSync => "broken synchronisation",
            Self::Erased => "zeros between packets: something else wrote there",
            Self::CutOff => "stream ends inside a packet",
            Self::StartsInside => "bytes before the first synchronisation",
            Self::Unwanted => "bytes before the first synchronisation that was wanted",
            Self::FramingLoss => "bytes after a gap, before the next synchronisation",
        }
    }
}
