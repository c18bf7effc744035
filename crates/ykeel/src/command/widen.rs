//! `ykeel widen`.

use keel_core::leave::Confirmation;
use keel_core::widen::{self, Former, Opening, Widened};
use keel_core::{CoreError, Refusal};
use keel_source::{Identity, Lasts, size_decimal};
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
            let code = widen::code_back(identity, former);
            say!("the drive showed {} ({} bytes) before", size_decimal(former.bytes), former.bytes);
            say!("tell it that again: --back --apply --confirm {code}");
        }
        (_, None) if back => say!("the drive was not widened, or shows its former end"),
        (Some(opening), _) => opening.words().iter().for_each(|line| say!("{line}")),
        (None, _) => say!("the drive shows all that it has, as far as it tells"),
    }
}
