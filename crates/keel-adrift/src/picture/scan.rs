//! Scans of a JPEG, baseline and progressive, decoded as far as it takes to know that every block is there (ITU-T T.81, F.2 and G.2).

use super::huffman::{Bits, Table};
use crate::walk::{Step, Walk, wrong};

/// The most blocks of a picture that are decoded.
const MOST_BLOCKS: u64 = 16 << 20;

/// A component of a frame.
#[derive(Debug, Clone, Default)]
pub(super) struct Component {
    pub(super) id: u8,
    /// Sampling factors, across and down.
    pub(super) factors: (u32, u32),
    /// Blocks of a scan of this component alone, across and down.
    own: (u32, u32),
    /// Blocks across of a scan of several components.
    wide: u32,
    /// Which coefficients of each block are not zero; for progressive pictures.
    set: Vec<u64>,
    /// Some scan held it.
    pub(super) seen: bool,
}

/// A frame.
#[derive(Debug, Clone, Default)]
pub(super) struct Frame {
    pub(super) size: (u32, u32),
    pub(super) progressive: bool,
    pub(super) components: Vec<Component>,
    /// Units of a scan of several components, across and down.
    units: (u32, u32),
}

/// Tables in force: DC, AC, and units between restarts.
#[derive(Debug, Clone, Default)]
pub(super) struct Tables {
    pub(super) dc: [Option<Table>; 4],
    pub(super) ac: [Option<Table>; 4],
    pub(super) restart: u32,
}

impl Component {
    /// A component by its header.
    pub(super) fn new(id: u8, factors: (u32, u32)) -> Self {
        Self { id, factors, ..Self::default() }
    }
}

/// What a scan's header says.
pub(super) struct Scan {
    /// Component (index), DC table, AC table.
    pub(super) parts: Vec<(usize, usize, usize)>,
    /// First and last coefficient.
    pub(super) band: (u8, u8),
    /// Former and present bit position.
    pub(super) bits: (u8, u8),
}

impl Frame {
    /// A frame by its header.
    pub(super) fn new(size: (u32, u32), progressive: bool, components: Vec<Component>) -> Self {
        Self { size, progressive, components, ..Self::default() }
    }

    /// Lays out the blocks; false where there are more than are decoded.
    pub(super) fn lay_out(&mut self) -> bool {
        let most = |which: fn(&Component) -> u32| self.components.iter().map(which).max().unwrap_or(1).max(1);
        let (across, down) = (most(|own| own.factors.0), most(|own| own.factors.1));
        self.units = (self.size.0.div_ceil(8 * across), self.size.1.div_ceil(8 * down));
        let (units, size, progressive) = (self.units, self.size, self.progressive);
        let mut all = 0;
        for own in &mut self.components {
            let blocks = |length: u32, factor: u32, most: u32| (length * factor).div_ceil(most).div_ceil(8);
            own.own = (blocks(size.0, own.factors.0, across), blocks(size.1, own.factors.1, down));
            own.wide = units.0 * own.factors.0;
            let count = u64::from(own.wide) * u64::from(units.1 * own.factors.1);
            all += count;
            if all > MOST_BLOCKS {
                return false;
            }
            if progressive {
                own.set = vec![0; usize::try_from(count).unwrap_or(0)];
            }
        }
        true
    }

    /// Decodes a scan whose data begin at `at`; answers with the place of the marker behind it.
    pub(super) fn decode(&mut self, walk: &mut Walk<'_>, at: u64, scan: &Scan, tables: &Tables) -> Step<u64> {
        let alone = match scan.parts.as_slice() {
            [(index, _, _)] => Some(*index),
            _ => None,
        };
        let (across, down) = match alone.and_then(|index| self.components.get(index)) {
            Some(own) => own.own,
            None => self.units,
        };
        let count = u64::from(across) * u64::from(down);
        let mut run = Run { bits: Bits::new(walk, at), scan, progressive: self.progressive, end_of_band: 0 };
        let mut next = 0xD0;
        for unit in 0..count {
            run.bits.hold();
            if tables.restart > 0 && unit > 0 && unit.is_multiple_of(u64::from(tables.restart)) {
                run.bits.align()?;
                if run.bits.marker()? != next {
                    return wrong("a restart marker is not the one that comes next");
                }
                (next, run.end_of_band) = (if next == 0xD7 { 0xD0 } else { next + 1 }, 0);
            }
            let (x, y) = ((unit % u64::from(across)) as u32, (unit / u64::from(across)) as u32);
            for (index, dc, ac) in &scan.parts {
                let Some(own) = self.components.get_mut(*index) else { continue };
                own.seen = true;
                let (dc, ac) = (tables.dc.get(*dc).and_then(Option::as_ref), tables.ac.get(*ac).and_then(Option::as_ref));
                let (wide, factors) = (own.wide, if alone.is_some() { (1, 1) } else { own.factors });
                for block in 0..factors.0 * factors.1 {
                    let (column, row) = (x * factors.0 + block % factors.0, y * factors.1 + block / factors.0);
                    let place = row as usize * wide as usize + column as usize;
                    let mut none = 0;
                    run.block((dc, ac), own.set.get_mut(place).unwrap_or(&mut none))?;
                }
            }
        }
        if run.end_of_band > 0 {
            return wrong("a run of its picture reaches behind its end");
        }
        run.bits.align()?;
        Ok(run.bits.at)
    }
}

struct Run<'w, 'a, 's> {
    bits: Bits<'w, 'a>,
    scan: &'s Scan,
    progressive: bool,
    /// Blocks of a run that hold nothing more.
    end_of_band: u32,
}

/// The table that has to be there.
fn given(table: Option<&Table>) -> Step<&Table> {
    table.map_or_else(|| wrong("a Huffman table that its picture needs is missing"), Ok)
}

impl Run<'_, '_, '_> {
    fn block(&mut self, (dc, ac): (Option<&Table>, Option<&Table>), set: &mut u64) -> Step<()> {
        if !self.progressive {
            self.first_dc(given(dc)?)?;
            return self.sequential(given(ac)?);
        }
        match (self.scan.band.0, self.scan.bits.0) {
            (0, 0) => self.first_dc(given(dc)?),
            (0, _) => self.bits.take(1).map(|_| ()),
            (_, 0) => self.first_ac(given(ac)?, set),
            _ => self.refine_ac(given(ac)?, set),
        }
    }

    fn first_dc(&mut self, table: &Table) -> Step<()> {
        let size = self.bits.symbol(table)?;
        if size > 15 {
            return wrong("a difference of its picture is larger than any is");
        }
        self.bits.take(u32::from(size)).map(|_| ())
    }

    fn sequential(&mut self, table: &Table) -> Step<()> {
        let mut at = 1;
        while at < 64 {
            let symbol = self.bits.symbol(table)?;
            let (run, size) = (u32::from(symbol >> 4), u32::from(symbol & 15));
            match (run, size) {
                (15, 0) => at += 16,
                (_, 0) => return Ok(()),
                _ => {
                    at += run + 1;
                    self.bits.take(size)?;
                }
            }
        }
        if at > 64 { wrong("a block of its picture holds more than 64 values") } else { Ok(()) }
    }

    fn first_ac(&mut self, table: &Table, set: &mut u64) -> Step<()> {
        if self.end_of_band > 0 {
            self.end_of_band -= 1;
            return Ok(());
        }
        let (mut at, last) = (u32::from(self.scan.band.0), u32::from(self.scan.band.1));
        while at <= last {
            let symbol = self.bits.symbol(table)?;
            let (run, size) = (u32::from(symbol >> 4), u32::from(symbol & 15));
            match (run, size) {
                (15, 0) => at += 16,
                (_, 0) => {
                    self.end_of_band = (1 << run) + self.bits.take(run)? - 1;
                    return Ok(());
                }
                _ => {
                    at += run;
                    if at > last {
                        return wrong("a block of its picture holds more values than its band");
                    }
                    self.bits.take(size)?;
                    *set |= 1 << at;
                    at += 1;
                }
            }
        }
        Ok(())
    }

    fn refine_ac(&mut self, table: &Table, set: &mut u64) -> Step<()> {
        let (mut at, last) = (u32::from(self.scan.band.0), u32::from(self.scan.band.1));
        while self.end_of_band == 0 && at <= last {
            let symbol = self.bits.symbol(table)?;
            let (mut run, size) = (u32::from(symbol >> 4), symbol & 15);
            match size {
                0 if run < 15 => {
                    self.end_of_band = (1 << run) + self.bits.take(run)?;
                    break;
                }
                0 => {}
                1 => {
                    self.bits.take(1)?;
                }
                _ => return wrong("a value of its picture gets more than one bit at a time"),
            }
            // Values that are there already get a bit each; as many that are not as the run says are passed over.
            while at <= last {
                if *set >> at & 1 == 1 {
                    self.bits.take(1)?;
                } else if run == 0 {
                    break;
                } else {
                    run -= 1;
                }
                at += 1;
            }
            if size == 1 {
                if at > last {
                    return wrong("a block of its picture holds more values than its band");
                }
                *set |= 1 << at;
            }
            at += 1;
        }
        if self.end_of_band > 0 {
            while at <= last {
                if *set >> at & 1 == 1 {
                    self.bits.take(1)?;
                }
                at += 1;
            }
            self.end_of_band -= 1;
        }
        Ok(())
    }
}
