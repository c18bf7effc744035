//! Sound and film: how long they are, and what runs in them.

use std::io::Read;

use symphonia::core::codecs::CodecParameters;
use symphonia::core::formats::probe::Hint;
use symphonia::core::formats::{FormatOptions, FormatReader, Track};
use symphonia::core::io::MediaSourceStream;
use symphonia::core::meta::{MetadataOptions, StandardTag};

use super::About;
use super::within::Within;

/// The most tracks that are told.
const MOST_TRACKS: usize = 8;

/// How long it is, and its tracks.
pub(super) fn media(mut within: Within, form: &'static str, head: &[u8]) -> About {
    let mut about = About::of(form);
    if head.get(8..12) == Some(b"AVI ") {
        avi(&mut within, &mut about);
        return about;
    }
    let stream = MediaSourceStream::new(Box::new(within), Default::default());
    match symphonia::default::get_probe().probe(&Hint::new(), stream, FormatOptions::default(), MetadataOptions::default()) {
        Ok(mut reader) => tell(reader.as_mut(), &mut about),
        Err(error) => about.fails(&error),
    }
    about
}

fn tell(reader: &mut dyn FormatReader, about: &mut About) {
    let longest = reader.tracks().iter().filter_map(seconds).max();
    let media = reader.media_info();
    let whole = media.time_base.zip(media.duration).and_then(|(base, duration)| base.calc_duration(duration));
    let length = longest.max(whole.and_then(|time| u64::try_from(time.as_millis()).ok()));
    length.into_iter().for_each(|length| about.say("length", &lasting(length)));
    for track in reader.tracks().iter().take(MOST_TRACKS) {
        let (word, what) = match &track.codec_params {
            Some(CodecParameters::Video(video)) => {
                ("film", video.width.zip(video.height).map(|(width, height)| format!("{width} x {height}")))
            }
            Some(CodecParameters::Audio(audio)) => {
                let channels = audio.channels.as_ref().map(|channels| format!(", {} channels", channels.count()));
                ("sound", audio.sample_rate.map(|rate| format!("{rate} Hz{}", channels.unwrap_or_default())))
            }
            Some(_) => ("text", None),
            None => continue,
        };
        about.say(word, what.as_deref().unwrap_or("yes"));
    }
    let metadata = reader.metadata();
    for tag in metadata.current().into_iter().flat_map(|revision| &revision.media.tags) {
        match &tag.std {
            Some(StandardTag::TrackTitle(title)) => about.say("title", title),
            Some(StandardTag::Artist(artist)) => about.say("by", artist),
            Some(StandardTag::Album(album)) => about.say("album", album),
            _ => {}
        }
    }
}

/// Milliseconds of a track.
fn seconds(track: &Track) -> Option<u64> {
    let base = track.time_base?;
    let time = base.calc_duration(track.duration?)?;
    u64::try_from(time.as_millis()).ok()
}

/// A length in words: `1:02:03`, or `2:03.4`.
fn lasting(millis: u64) -> String {
    let (seconds, tenth) = (millis / 1000, millis % 1000 / 100);
    match seconds / 3600 {
        0 => format!("{}:{:02}.{tenth}", seconds / 60, seconds % 60),
        hours => format!("{hours}:{:02}:{:02}", seconds / 60 % 60, seconds % 60),
    }
}

/// The main header of an AVI (`avih`: microseconds of a frame, ..., frames at 16, width and height at 32) stands near its start.
fn avi(within: &mut Within, about: &mut About) {
    const NEAR: u64 = 4096;
    let mut start = Vec::new();
    if let Err(error) = within.take(NEAR).read_to_end(&mut start) {
        return about.fails(&error);
    }
    let header = start.windows(4).position(|mark| mark == b"avih").and_then(|at| start.get(at + 8..at + 8 + 40));
    let Some(header) = header else { return about.fails(&"its main header is not there") };
    let word = |at: usize| header.get(at..at + 4).and_then(|bytes| bytes.try_into().ok()).map_or(0, u32::from_le_bytes);
    about.say("length", &lasting(u64::from(word(0)) * u64::from(word(16)) / 1000));
    about.say("film", &format!("{} x {}", word(32), word(36)));
}
