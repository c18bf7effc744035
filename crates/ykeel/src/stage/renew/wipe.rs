//! Overwriting, from the screens: asked for with ground and pattern, armed by words and the drive's code.

use keel_core::job::{Cancel, Job, Message};
use keel_core::leave::Confirmation;
use keel_core::place::size_named;
use keel_core::wipe::{self, BEYOND, Pattern, Verify, WORDS, Wanted};
use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource, printable, size_decimal};

use crate::app::effect::{Effect, Effects, job, show, work};
use crate::popup::Ask;
use crate::stage::Drive;

/// Asks which ground is overwritten, and with what.
pub(super) fn ask(drive: &Drive) -> Effects {
    let text = format!(
        "Ground and pattern: all, free, entry N, or FROM..TO in bytes; then zeros, random, or bytes in hexadecimal (55aa). Then, where wanted, \
         sample or unread (not every sector is read back) and device (the drive may make zeros by itself, which is no overwriting and is \
         told apart).\n{BEYOND}\nThere is no way back."
    );
    let line = drive
        .renew
        .selected_ground()
        .map_or_else(|| "all zeros".into(), |range| format!("{}..{} zeros", range.start.0, range.end.0));
    let ask = Ask::new("Overwrite", text, line, |_, line| {
        let line = line.trim().to_string();
        vec![work("ask for the words", move |drive| match wanted(drive, &line) {
            Ok(wanted) => arm(drive, wanted),
            Err(why) => vec![show("Not overwritten", why)],
        })]
    });
    vec![Effect::Over(Box::new(ask))]
}

/// What the line asks for.
fn wanted(drive: &Drive, line: &str) -> Result<Wanted, String> {
    let source = &drive.source;
    let mut words: Vec<&str> = line.split_whitespace().collect();
    let (mut verify, mut by_device) = (Verify::All, false);
    while let Some(word) = words.pop_if(|word| ["sample", "unread", "device"].contains(word)) {
        match word {
            "sample" => verify = Verify::Sample,
            "unread" => verify = Verify::None,
            _ => by_device = true,
        }
    }
    let pattern = words.pop().unwrap_or_default();
    let pattern = Pattern::typed(pattern, Pattern::seed(&source.identity().key())).map_err(|wrong| wrong.to_string())?;
    let whole = |range| wipe::ground_of(source, range).map_err(|wrong| wrong.to_string());
    let ground: RangeSet = match words.as_slice() {
        ["all"] => whole(ByteRange::sized(ByteOffset(0), source.len()))?,
        ["free"] => {
            let table = keel_format::table::read(source.as_ref());
            wipe::free(source, &table, &Cancel::default()).map_err(|wrong| wrong.to_string())?.ground
        }
        ["entry", number] => {
            let slot: u32 = number.parse().map_err(|_| format!("`{}` is no number of an entry", printable(number)))?;
            let table = keel_format::table::read(source.as_ref());
            let entry = table.partitions.iter().find(|entry| entry.slot == slot);
            whole(entry.ok_or_else(|| format!("there is no entry {slot}"))?.range(source.sector_size()))?
        }
        [range] => {
            let wrong = || format!("`{}`: all, free, entry N or FROM..TO is wanted", printable(range));
            let byte = |text: &str| text.parse().ok().or_else(|| size_named(text)).map(ByteOffset);
            let (from, to) = range.split_once("..").ok_or_else(wrong)?;
            let (from, to) = byte(from).zip(byte(to)).filter(|(from, to)| from <= to).ok_or_else(wrong)?;
            whole(ByteRange::new(from, to))?
        }
        _ => return Err(format!("`{}`: a ground and a pattern are wanted: all zeros", printable(line))),
    };
    let wanted = Wanted { ground, pattern, verify, by_device, record: wipe::record_place(source.identity()) };
    wanted.problem().map_or(Ok(wanted), |problem| Err(problem.to_string()))
}

/// Asks for the words and the code.
fn arm(drive: &Drive, wanted: Wanted) -> Effects {
    if let Some(running) = drive.running().first().filter(|running| running.weight > crate::stage::Weight::Short) {
        return crate::app::effect::tell(format!("wait for what runs, or stop it: {}", running.line()));
    }
    let code = drive.source.identity().code();
    let text = format!(
        "{} of\n{}\nWILL BE OVERWRITTEN with {}{}, and nothing brings back what stands there.\n{}.\nType: {WORDS} {code}",
        size_decimal(wanted.ground.bytes()),
        drive.who(),
        wanted.pattern.words(),
        if wanted.by_device { ", or made zeros by the drive itself where it can" } else { "" },
        match wanted.verify {
            Verify::All => "Afterwards every sector is read back",
            Verify::Sample => "Afterwards a sample is read back",
            Verify::None => "Nothing is read back, and nothing is proven",
        }
    );
    let ask = Ask::new("Overwrite", text, "", move |app, line| {
        let (words, code) = line.trim().rsplit_once(' ').unwrap_or(("", ""));
        let is_meant = words.trim() == WORDS && app.drive.as_ref().is_some_and(|drive| drive.is_code(code));
        if !is_meant {
            return vec![show("Not overwritten", "Those are not the words with the code of this drive. Nothing was written.")];
        }
        let (wanted, code) = (wanted.clone(), code.to_string());
        vec![job("overwrite", move |drive| begin(drive, wanted, code))]
    });
    vec![Effect::Over(Box::new(ask.once()))]
}

fn begin(drive: &mut Drive, wanted: Wanted, code: String) {
    if drive.is_busy() {
        return;
    }
    let source = SharedSource::clone(&drive.source);
    (drive.renew.wipe_progress, drive.renew.wiped) = (None, None);
    drive.renew.wiping =
        Some(Job::start(move |desk| wipe::wipe(&source, (&Confirmation::Code(code), WORDS), (&wanted, true), desk)));
}

/// Takes what the overwriting told.
pub(super) fn reports(drive: &mut Drive) -> Effects {
    let mut effects = Vec::new();
    for message in drive.renew.wiping.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(progress) => {
                drive.renew.wipe_progress = Some(progress);
                continue;
            }
            Message::Done(Ok(wiped)) => {
                let mut lines = vec![wiped.line(), wiped.verified_line()];
                lines.extend(wipe::troubles(&wiped));
                if wiped.cancelled {
                    lines.push("The same overwriting goes on from here when it is asked for again.".into());
                }
                effects.extend(ask_certificate(drive, &wiped));
                drive.renew.wiped = Some(wiped);
                effects.push(show("Overwriting", lines.join("\n")));
            }
            Message::Done(Err(error)) => effects.push(show("Not overwritten", keel_core::chain(&error))),
            Message::Died(text) => effects.push(show("The overwriting died", text)),
        }
        drive.renew.wiping = None;
        // Nothing that was known of the drive need be so any more.
        effects.extend(drive.source.identity().path.clone().map(Effect::OpenAnew));
    }
    effects
}

/// Asks where the certificate goes.
fn ask_certificate(drive: &Drive, wiped: &wipe::Wiped) -> Option<Effect> {
    if wiped.cancelled {
        return None;
    }
    let folder = crate::config::get().folders.reports.clone().unwrap_or_default();
    let name = folder.join(format!("{}-overwritten.pdf", drive.plain_name())).to_string_lossy().into_owned();
    let (source, wiped) = (SharedSource::clone(&drive.source), wiped.clone());
    let text = "The certificate, a PDF: drive, method, ground, what was read back, failures, times. An empty line writes none.";
    let ask = Ask::path("Certificate", text, name, move |app, line| {
        if line.trim().is_empty() {
            return Vec::new();
        }
        let path = std::path::PathBuf::from(line.trim());
        match keel_draw::certify(&source, app.case.as_ref(), &wiped, &path) {
            Ok(()) => crate::app::effect::tell(format!("written: {}", path.display())),
            Err(why) => vec![show("The certificate was not written", keel_core::chain(&why))],
        }
    });
    Some(Effect::Over(Box::new(ask)))
}
