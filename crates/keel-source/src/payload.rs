//! What is to be written: bytes that are held, or a long run of bytes that are made as they are needed.

use std::fmt::{self, Debug};
use std::sync::Arc;

/// Bytes that are made at once, in a buffer.
pub const PIECE: usize = 1 << 20;

/// Makes the bytes of a run.
pub trait Generate: Debug + Send + Sync {
    /// What it makes, as a plan names it: `zeros`.
    fn name(&self) -> &str;

    /// Fills `buf` with the bytes from byte `at` of the run on: the same for the same place, whenever it is asked.
    fn fill(&self, at: u64, buf: &mut [u8]);

    /// True when all that it makes is zeros.
    fn is_zeros(&self) -> bool {
        false
    }
}

/// Zeros.
#[derive(Debug, Clone, Copy)]
pub struct Zeros;

impl Generate for Zeros {
    fn name(&self) -> &'static str {
        "zeros"
    }

    fn fill(&self, _at: u64, buf: &mut [u8]) {
        buf.fill(0);
    }

    fn is_zeros(&self) -> bool {
        true
    }
}

/// Bytes to be written; cheap to clone.
#[derive(Clone)]
pub enum Payload {
    /// Held in memory.
    Held(Arc<[u8]>),
    /// A run of so many bytes.
    Run(u64, Arc<dyn Generate>),
}

impl Payload {
    /// A run of `bytes` zeros.
    #[must_use]
    pub fn zeros(bytes: u64) -> Self {
        Self::Run(bytes, Arc::new(Zeros))
    }

    /// Length in bytes.
    #[must_use]
    pub fn len(&self) -> u64 {
        match self {
            Self::Held(bytes) => bytes.len() as u64,
            Self::Run(bytes, _) => *bytes,
        }
    }

    /// True for nothing to be written.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The bytes, where they are held.
    #[must_use]
    pub fn held(&self) -> Option<&[u8]> {
        match self {
            Self::Held(bytes) => Some(bytes),
            Self::Run(..) => None,
        }
    }

    /// What makes the bytes, where they are not held.
    #[must_use]
    pub fn run(&self) -> Option<&dyn Generate> {
        match self {
            Self::Held(_) => None,
            Self::Run(_, by) => Some(by.as_ref()),
        }
    }

    /// True for a run of zeros.
    #[must_use]
    pub fn is_zeros(&self) -> bool {
        self.run().is_some_and(Generate::is_zeros)
    }

    /// Fills `buf` with the bytes from byte `at` on; what lies behind the end is zeros.
    pub fn fill(&self, at: u64, buf: &mut [u8]) {
        let inside = usize::try_from(self.len().saturating_sub(at)).unwrap_or(usize::MAX).min(buf.len());
        let (own, behind) = buf.split_at_mut(inside);
        behind.fill(0);
        match self {
            Self::Held(bytes) => {
                let from = usize::try_from(at).unwrap_or(usize::MAX).min(bytes.len());
                own.copy_from_slice(&bytes[from..from + inside]);
            }
            Self::Run(_, by) => by.fill(at, own),
        }
    }

    /// Hands the bytes to `each` with their offset, in pieces of at most [`PIECE`] bytes, until it breaks with an error.
    ///
    /// # Errors
    /// That of `each`.
    pub fn each_piece<E>(&self, mut each: impl FnMut(u64, &[u8]) -> Result<(), E>) -> Result<(), E> {
        if let Some(bytes) = self.held() {
            return bytes.chunks(PIECE).zip((0u64..).step_by(PIECE)).try_for_each(|(piece, at)| each(at, piece));
        }
        let mut buf = vec![0; PIECE];
        (0..self.len()).step_by(PIECE).try_for_each(|at| {
            let piece = &mut buf[..usize::try_from(self.len() - at).unwrap_or(PIECE).min(PIECE)];
            self.fill(at, piece);
            each(at, piece)
        })
    }
}

impl From<Vec<u8>> for Payload {
    fn from(bytes: Vec<u8>) -> Self {
        Self::Held(bytes.into())
    }
}

impl From<&[u8]> for Payload {
    fn from(bytes: &[u8]) -> Self {
        Self::Held(bytes.into())
    }
}

/// The same bytes, or runs of the same length by the same name.
impl PartialEq for Payload {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Held(one), Self::Held(other)) => one == other,
            (Self::Run(bytes, by), Self::Run(others, by_other)) => (bytes, by.name()) == (others, by_other.name()),
            _ => false,
        }
    }
}

impl Eq for Payload {}

impl Debug for Payload {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Held(bytes) => write!(f, "Held({bytes:?})"),
            Self::Run(bytes, by) => write!(f, "Run({bytes} bytes of {})", by.name()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Each byte says where it stands.
    #[derive(Debug)]
    struct Places;

    impl Generate for Places {
        fn name(&self) -> &'static str {
            "places"
        }

        fn fill(&self, at: u64, buf: &mut [u8]) {
            buf.iter_mut().zip(at..).for_each(|(slot, place)| *slot = (place % 251) as u8);
        }
    }

    #[test]
    fn held_bytes_and_runs_fill_alike_and_end_alike() {
        let len = PIECE * 2 + 77;
        let held: Vec<u8> = (0..len).map(|place| (place % 251) as u8).collect();
        let (held, run) = (Payload::from(held), Payload::Run(len as u64, Arc::new(Places)));
        for at in [0, 5, PIECE as u64 - 3, len as u64 - 10, len as u64, u64::MAX - 5] {
            let (mut one, mut other) = ([9; 40], [9; 40]);
            held.fill(at, &mut one);
            run.fill(at, &mut other);
            assert_eq!(one, other, "{at}");
        }
        let gathered = |payload: &Payload| {
            let mut all = Vec::new();
            let walked = payload.each_piece(|at, piece| {
                assert!(at == all.len() as u64 && piece.len() <= PIECE);
                all.extend_from_slice(piece);
                Ok::<(), ()>(())
            });
            (walked, all)
        };
        assert!(gathered(&held) == gathered(&run));
        assert_eq!(run.each_piece(|at, _| if at > 0 { Err(at) } else { Ok(()) }), Err(PIECE as u64));
        assert!(!run.is_zeros() && Payload::zeros(9).is_zeros() && Payload::zeros(0).is_empty());
        assert!(Payload::zeros(9) != Payload::from(vec![0; 9]) && Payload::zeros(9) == Payload::zeros(9));
    }
}
