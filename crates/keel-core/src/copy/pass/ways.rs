//! The ways over the drive: each over what the ones before it left.

use keel_source::{ByteOffset, ByteRange, CopyState};

use super::super::Stopped;
use super::super::heads::Trouble;
use super::ask::Answer;
use super::{Copier, LARGE, Way, unless_stopped};
use crate::CoreError;

/// Bytes asked for at once beside trouble.
const SMALL: u64 = 64 << 10;
/// The widest step over trouble.
const WIDEST: u64 = 256 << 20;
/// The answer, or the stop handed on to the caller.
macro_rules! answered {
    ($answer:expr) => {
        match $answer {
            Answer::Got(got) => got,
            Answer::Stopped(stopped) => return Ok(Some(stopped)),
        }
    };
}

impl Copier {
    pub(super) fn sound(&mut self) -> Way {
        for wanted in std::mem::take(&mut self.first).into_iter().chain([ByteRange::sized(ByteOffset(0), u64::MAX)]) {
            let mut at = wanted.start;
            while let Some((state, end)) = self.dest.map.at(at).filter(|_| at < wanted.end) {
                if state == CopyState::Untried {
                    unless_stopped!(self.sound_in(ByteRange::new(at, end.min(wanted.end)))?);
                }
                at = end;
            }
        }
        Ok(None)
    }

    fn sound_in(&mut self, range: ByteRange) -> Way {
        let widest = (range.len() / 64).clamp(LARGE, WIDEST) / LARGE * LARGE;
        let (mut at, mut step, mut data) = (range.start, LARGE, ByteRange::new(range.start, range.start));
        let mut around = None;
        while at < range.end {
            unless_stopped!(self.stop());
            if at >= data.end {
                // What the source knows to be a hole is one in the copy, too.
                data = self.source.next_data(at).unwrap_or(ByteRange::new(range.end, range.end));
                let hole = ByteRange::new(at, data.start.clamp(at, range.end));
                self.dest.hole(hole)?;
                self.ground.see_hole(hole);
                self.copied += hole.len();
                at = hole.end;
                continue;
            }
            let band = self.heads.next(at);
            if let Some(band) = band.filter(|band| band.start <= at) {
                // Gone around: the passes behind this one look into it.
                let over = ByteRange::new(at, band.end.min(range.end));
                self.dest.set_state(over, CopyState::PassedOver)?;
                (at, around) = (over.end, Some(over));
                continue;
            }
            let until = band.map_or(range.end, |band| band.start.min(range.end));
            let piece = ByteRange::new(at, data.end.min(until).min(at + LARGE));
            let got = answered!(self.ask(piece)?);
            at = at + got.delivered;
            if got.whole && !got.slow {
                step = (step / 2).max(LARGE);
                continue;
            }
            if self.options.heads && !got.whole {
                match self.behind_band(ByteRange::new(at, range.end), around)? {
                    Ok(behind) => at = behind,
                    Err(stopped) => return Ok(Some(stopped)),
                }
                continue;
            }
            let over = ByteRange::new(at, (piece.end + step).min(range.end));
            self.dest.set_state(over, CopyState::PassedOver)?;
            at = over.end;
            step = (step * 2).min(widest);
        }
        Ok(None)
    }

    /// Where to go on at a place that did not read, the start of `range`: behind its band, which tells where the next ones are. `around` is
    /// the band that was gone around last.
    fn behind_band(&mut self, range: ByteRange, around: Option<ByteRange>) -> Result<Result<ByteOffset, Stopped>, CoreError> {
        let at = range.start;
        let trouble = self.heads.trouble(at, around);
        if trouble == Trouble::Early {
            // The next look at the pattern goes around it.
            self.heads.begins(at);
            return Ok(Ok(at));
        }
        let behind = match self.far_side(range)? {
            Ok(behind) => behind,
            Err(stopped) => return Ok(Err(stopped)),
        };
        match trouble {
            Trouble::Late => self.heads.ends(behind),
            _ if self.heads.next(at).is_some() => self.heads.forget(),
            _ if behind < range.end => self.heads.note(ByteRange::new(at, behind)),
            _ => {}
        }
        Ok(Ok(behind))
    }

    /// Finds the other side of the bad band that `range` begins with, to within a small request: where to go on.
    fn far_side(&mut self, range: ByteRange) -> Result<Result<ByteOffset, Stopped>, CoreError> {
        let unit = self.unit;
        let one = |at: ByteOffset| ByteRange::new(at, range.end.min(at + unit));
        // The last place that failed, and the first behind it that came.
        let (mut bad, mut good, mut step) = (range.start, range.end, SMALL);
        while let Some(at) = bad.checked_add(step).filter(|at| *at < good) {
            if let Some(stopped) = self.stop() {
                return Ok(Err(stopped));
            }
            match self.ask(one(ByteOffset(at.0 / unit * unit)))? {
                Answer::Stopped(stopped) => return Ok(Err(stopped)),
                Answer::Got(got) if got.whole => good = at,
                Answer::Got(_) => bad = at,
            }
            // Outwards until a place comes, then inwards.
            step = if good == range.end { (step * 2).min(WIDEST) } else { ((good - bad) / 2).max(SMALL) };
            if good - bad <= SMALL {
                break;
            }
        }
        self.dest.set_state(ByteRange::new(range.start, good), CopyState::PassedOver)?;
        Ok(Ok(good))
    }

    pub(super) fn edges(&mut self) -> Way {
        for range in self.dest.map.ranges(&[CopyState::PassedOver]) {
            let (mut start, mut end) = (range.start, range.end);
            while start < end {
                unless_stopped!(self.stop());
                let got = answered!(self.ask(ByteRange::new(start, end.min(start + SMALL)))?);
                start = start + got.delivered;
                if !got.whole {
                    break;
                }
            }
            while start < end {
                unless_stopped!(self.stop());
                let piece = ByteRange::new(start.max(ByteOffset(end.0.saturating_sub(SMALL))), end);
                let got = answered!(self.ask(piece)?);
                if got.whole {
                    end = piece.start;
                    continue;
                }
                self.dest.set_state(ByteRange::new(piece.start + got.delivered, end), CopyState::Inner)?;
                end = piece.start;
                break;
            }
            self.dest.set_state(ByteRange::new(start, end), CopyState::Inner)?;
        }
        Ok(None)
    }

    pub(super) fn inner(&mut self) -> Way {
        // Without the pass before it, what was passed over is gone through here.
        let (mut near, mut far) = (Vec::new(), Vec::new());
        for range in self.dest.map.ranges(&[CopyState::Inner, CopyState::PassedOver]) {
            if range.len() <= 2 * SMALL {
                near.push(range);
                continue;
            }
            // Sound sectors lie beside the edges; the middle of a large place is most likely lost.
            let (left, right) = (range.start + SMALL, ByteOffset(range.end.0 - SMALL));
            near.extend([ByteRange::new(range.start, left), ByteRange::new(right, range.end)]);
            far.push(ByteRange::new(left, right));
        }
        for range in near.into_iter().chain(far) {
            let (mut at, mut step) = (range.start, self.unit);
            while at < range.end {
                unless_stopped!(self.stop());
                let piece = ByteRange::new(at, range.end.min(at + step));
                let got = answered!(self.ask(piece)?);
                at = at + got.delivered;
                if got.whole {
                    step = (step * 2).min(SMALL.max(self.unit));
                    continue;
                }
                if piece.len() <= self.unit {
                    unless_stopped!(self.singly(ByteRange::new(at, piece.end))?);
                    at = piece.end;
                }
                step = self.unit;
            }
        }
        Ok(None)
    }

    /// Asks for each logical sector of `range`, which did not come at once: a drive whose own sectors are larger may hold some of them,
    /// as what could not be written there whole.
    fn singly(&mut self, range: ByteRange) -> Way {
        let mut at = range.start;
        while at < range.end {
            unless_stopped!(self.stop());
            let piece = ByteRange::new(at, range.end.min(at + self.sector));
            if piece == range || !answered!(self.ask(piece)?).whole {
                self.dest.set_state(piece, CopyState::Failed)?;
            }
            at = piece.end;
        }
        Ok(None)
    }

    pub(super) fn again(&mut self) -> Way {
        for turn in 0..self.options.again {
            let mut failed = self.dest.map.ranges(&[CopyState::Failed]);
            // The other way round each time: some heads find a place from one side only.
            if turn % 2 == 0 {
                failed.reverse();
            }
            for range in failed {
                let sectors = range.len().div_ceil(self.sector);
                for index in 0..sectors {
                    let index = if turn % 2 == 0 { sectors - 1 - index } else { index };
                    let start = range.start + index * self.sector;
                    self.leave_alone();
                    unless_stopped!(self.stop());
                    answered!(self.ask(ByteRange::new(start, range.end.min(start + self.sector)))?);
                }
            }
        }
        Ok(None)
    }
}
