//! A draft is changed a step at a time.

use keel_format::table::Scheme;

use super::draft::Draft;
use super::entry::NotDrafted;
use super::step::{NewTable, Step};
use super::{convert, flags};

impl Draft {
    /// Takes a step; the draft stays as it is where that cannot be.
    ///
    /// # Errors
    /// [`NotDrafted`] with the reason.
    pub fn take(&mut self, step: &Step) -> Result<(), NotDrafted> {
        let mut next = self.clone();
        next.taken(step)?;
        next.holds()?;
        *self = next;
        Ok(())
    }

    fn taken(&mut self, step: &Step) -> Result<(), NotDrafted> {
        if !matches!(step, Step::Table(NewTable::Of(_) | NewTable::None))
            && let Some(what) = &self.unsound
        {
            return Err(NotDrafted(format!("the table is not sound ({what}): mend it first, or make a new one")));
        }
        match step {
            Step::Table(NewTable::Mark) => self.mark(),
            Step::Table(NewTable::Of(scheme)) => self.anew(Some(*scheme)),
            Step::Table(NewTable::None) => self.anew(None),
            Step::Convert(scheme) => convert::convert(self, *scheme),
            Step::Delete(number) => self.entry(*number).map(|at| {
                self.entries.remove(at);
            }),
            Step::Add(wish) => self.add(wish),
            Step::Format(number, wish) => self.format(*number, wish),
            Step::Grow(number, size) => self.grow(*number, *size),
            Step::Shrink(number, size) => self.shrink(*number, *size),
            Step::Flags(number, marks) => {
                let at = self.entry(*number)?;
                self.changed(at, |entry| {
                    entry.is_chosen = true;
                    flags::set(entry, marks)
                })
            }
            Step::Type(number, code) => {
                let (at, scheme) = (self.entry(*number)?, self.scheme);
                if scheme != Some(code.scheme()) {
                    return Err(NotDrafted(format!("{code} is no type of a {}", scheme.map_or("table", Scheme::word))));
                }
                self.changed(at, |entry| {
                    entry.type_code = *code;
                    entry.is_chosen = true;
                    Ok(Vec::new())
                })
            }
            Step::Name(number, name) => {
                let at = self.entry(*number)?;
                self.named(at, name)
            }
            Step::Order(numbers) => self.ordered(numbers),
        }
    }
}
