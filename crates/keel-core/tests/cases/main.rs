//! Cases of the computation, on volumes that formatters and drivers made.
//! One program for all of them: they are linked once, and run beside each other.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "support/fuzz.rs"]
mod fuzz;
#[path = "support/pieces.rs"]
mod pieces;
#[path = "support/seeds.rs"]
mod seeds;

mod account_cases;
mod apply_cases;
mod copy_cases;
mod edit_cases;
mod ext_core_cases;
mod fathom_cases;
mod fathom_chance;
mod fit_cases;
mod fuzz_cases;
mod mend_cases;
mod older_cases;
mod pieces_cases;
mod place_cases;
mod promise_cases;
mod prove_cases;
mod recovery_cases;
mod renew_cases;
mod sick_cases;
mod support;
mod sweep_cases;
mod table_cases;
mod table_structures;
mod wipe_cases;
mod xfs_core_cases;
mod yard_cases;
