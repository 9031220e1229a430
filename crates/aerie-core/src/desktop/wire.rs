//! Bytes of the protocol, most significant first (RFC 6143 section 4).

/// What a server did that it may not; the connection is closed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// It does not speak RFB 3.8.
    #[error("it speaks no RFB 3.8")]
    Version,
    /// It offers no way to sign in that Aerie has.
    #[error("it offers no way to sign in that Aerie has ({0})")]
    Security(String),
    /// It does not let Aerie in.
    #[error("it does not let Aerie in: {0}")]
    Refused(String),
    /// Its screen is larger than Aerie takes.
    #[error("its screen of {0} × {1} is larger than Aerie takes")]
    TooLarge(u16, u16),
    /// A rectangle that lies outside of the screen.
    #[error("it sent a rectangle outside of its screen")]
    Outside,
    /// Something that Aerie did not ask for.
    #[error("it sent {0}, which was not asked for")]
    Unasked(&'static str),
    /// A length beyond what there can be.
    #[error("it sent {0} that is longer than there can be")]
    Long(&'static str),
    /// A message, encoding or compressed piece that cannot be read.
    #[error("it sent {0} that cannot be read")]
    Unreadable(&'static str),
}

/// Why reading stopped.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Stop {
    /// More bytes are needed.
    More,
    /// For good.
    Fault(Fault),
}

impl From<Fault> for Stop {
    fn from(fault: Fault) -> Self {
        Self::Fault(fault)
    }
}

/// Reads from bytes of which more may come.
pub(super) struct Bytes<'a> {
    all: &'a [u8],
    /// How many were read.
    pub(super) at: usize,
}

impl<'a> Bytes<'a> {
    pub(super) fn new(all: &'a [u8]) -> Self {
        Self { all, at: 0 }
    }

    pub(super) fn take(&mut self, n: usize) -> Result<&'a [u8], Stop> {
        let end = self.at.checked_add(n).ok_or(Stop::More)?;
        let taken = self.all.get(self.at..end).ok_or(Stop::More)?;
        self.at = end;
        Ok(taken)
    }

    pub(super) fn array<const N: usize>(&mut self) -> Result<[u8; N], Stop> {
        self.take(N)?.try_into().map_err(|_| Stop::More)
    }

    pub(super) fn u8(&mut self) -> Result<u8, Stop> {
        Ok(u8::from_be_bytes(self.array()?))
    }

    pub(super) fn u16(&mut self) -> Result<u16, Stop> {
        Ok(u16::from_be_bytes(self.array()?))
    }

    pub(super) fn u32(&mut self) -> Result<u32, Stop> {
        Ok(u32::from_be_bytes(self.array()?))
    }

    /// A length of four bytes, at most so long.
    pub(super) fn length(&mut self, most: usize, what: &'static str) -> Result<usize, Stop> {
        let length = self.u32()? as usize;
        if length > most { Err(Fault::Long(what).into()) } else { Ok(length) }
    }

    /// Passes over what is there, at most so much; says how much that was.
    pub(super) fn skip(&mut self, most: usize) -> Result<usize, Stop> {
        let some = most.min(self.all.len().saturating_sub(self.at));
        if some == 0 { Err(Stop::More) } else { self.take(some).map(<[u8]>::len) }
    }

    /// Whether nothing is left.
    pub(super) fn is_empty(&self) -> bool {
        self.at >= self.all.len()
    }
}
