//! The stages of the bench: what the screens show and the commands print, without either.
//!
//! `sweep` finds volumes, `layout` settles them, `mend` stages edits, `plan` applies and undoes them, `ladder`
//! examines a drive or a drive as it would be, `copy` takes an image of a sick
//! drive, `coverage` says how much of it a verdict rests on, `advice` what the next step is, `files` takes files out, `case` keeps what outlives a run, `yard` lists
//! what lies on the bench, `export` writes lists as files, `renew` makes
//! a drive ready for use again, `wipe` overwrites ground. `leave` is the one door to writing, `whose` tells what is kept of one drive from what is kept of another.
//! Long work is a [`job::Job`].
#![forbid(unsafe_code)]

pub mod account;
pub mod adrift;
pub mod advice;
pub mod attach;
mod bundle;
pub mod case;
pub mod copy;
pub mod coverage;
pub mod device;
mod edit;
mod error;
pub mod export;
pub mod fathom;
pub mod files;
mod find;
pub mod ground;
pub mod health;
pub mod intake;
pub mod job;
pub mod kernel_words;
pub mod ladder;
pub mod layout;
pub mod leave;
pub mod log;
pub mod mend;
pub mod nodes;
pub mod place;
pub mod plan;
pub mod reads;
pub mod renew;
mod rung;
mod saved;
pub mod settings;
pub mod sweep;
mod tag;
#[cfg(test)]
mod testing;
pub mod whose;
pub mod widen;
pub mod wipe;
pub mod yard;

pub use error::{CoreError, Refusal, chain};
