//! `ykeel widen`.

use keel_core::leave::Confirmation;
use keel_core::widen::{self, Former, Opening, Widened};
use keel_core::{CoreError, Refusal};
use keel_source::{Identity, Lasts};
use serde::Serialize;

use super::shared::{open, print_json};
use crate::cli::WidenArgs;
use crate::exit::Ended;
use crate::out::{say, tell};

#[derive(Serialize)]
struct Document {
    /// What is hidden; none where the drive shows all that it tells of.
    opening: Option<Opening>,
    /// The end that it had before it was widened.
    former: Option<Former>,
    /// What was done.
    #[serde(skip_serializing_if = "Option::is_none")]
    widened: Option<Widened>,
}

pub(super) fn run(args: &WidenArgs) -> anyhow::Result<()> {
    let source = open(&args.source)?;
    let identity = source.identity();
    let (opening, former) = (widen::opening(source.as_ref()), widen::former(identity));
    let lasts = if args.lasting { Lasts::ForGood } else { Lasts::UntilPowerIsCut };
    let mut document = Document { opening, former, widened: None };
    if args.apply {
        let confirmation = match (&args.confirm, args.yes) {
            (None, true) => Confirmation::Yes,
            (code, _) => Confirmation::Code(code.clone().unwrap_or_default()),
        };
        let done = if args.back { widen::back(&source, &confirmation) } else { widen::widen(&source, lasts, &confirmation) };
        if matches!(done, Err(CoreError::Refused(Refusal::Code | Refusal::CodeWanted))) {
            tell!("ykeel: the code of this drive is {}", identity.code());
        }
        document.widened = Some(done?);
    }
    if args.source.json {
        print_json(&document)?;
    } else if let Some(widened) = &document.widened {
        widened.words().iter().for_each(|line| say!("{line}"));
    } else {
        print(&document, args.back, identity);
    }
    let is_shown = document.widened.as_ref().is_none_or(|widened| widened.shown_bytes == widened.told_bytes);
    let has_something =
        document.widened.is_some() || if args.back { document.former.is_some() } else { document.opening.is_some() };
    if is_shown && has_something { Ok(()) } else { Err(Ended::Nothing.into()) }
}

fn print(document: &Document, back: bool, identity: &Identity) {
    match (&document.opening, &document.former) {
        (_, Some(former)) if back => {
            say!("{}", former.words());
            say!("tell it that again: --back --apply --confirm {}", widen::code_back(identity, former));
        }
        (_, None) if back => say!("{}", widen::NOT_WIDENED),
        (Some(opening), _) => {
            opening.words().iter().for_each(|line| say!("{line}"));
            if opening.can_pass {
                say!("until its power is cut: --apply --confirm {}", opening.code);
            }
            say!("for good: --lasting --apply --confirm {}", opening.lasting_code);
        }
        (None, _) => say!("{}", widen::NOTHING_HIDDEN),
    }
}
