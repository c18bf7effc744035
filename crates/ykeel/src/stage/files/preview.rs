//! A preview of one file: text, picture or bytes.

use image::imageops::FilterType;
use keel_core::files::{About, Encoding, FileGround, about, decoded};
use keel_core::job::Cancel;
use keel_format::{Entry, NodeId, StreamInfo, StreamReader, Volume, read_whole};
use keel_source::ByteOffset;
use ratatui::layout::Size;
use ratatui_image::Resize;
use ratatui_image::picker::Picker;
use ratatui_image::protocol::Protocol;

/// The most of a file that a preview reads.
const PREVIEW_BYTES: usize = 256 << 10;
/// The most of a text that is shown beside the list.
const TEXT_BYTES: usize = 32 << 10;
/// The most of a picture that is read and decoded.
const PICTURE_BYTES: usize = 16 << 20;

/// How the preview is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum ViewAs {
    /// Text or picture, by what the file is.
    #[default]
    Content,
    /// Bytes.
    Hex,
}

/// A preview of one file.
pub(crate) struct Preview {
    pub(crate) id: NodeId,
    pub(crate) bytes: Vec<u8>,
    pub(crate) whole: bool,
    pub(crate) picture: Option<Protocol>,
    pub(crate) picture_size: Option<(u32, u32)>,
    pub(crate) streams: Vec<StreamInfo>,
    /// What is left of its ground.
    pub(crate) ground: FileGround,
    pub(crate) problem: Option<String>,
    /// Its first bytes as text, and how that is written, where they are text.
    pub(crate) text: Option<(String, Encoding)>,
    /// What it says of itself.
    pub(crate) about: Option<About>,
    /// Where its first byte lies, in bytes of the volume.
    pub(crate) first_at: Option<ByteOffset>,
}

/// Reads the preview of `entry`, a picture fitted into so many cells.
pub(super) fn preview(volume: &dyn Volume, entry: &Entry, ground: FileGround, (size, cancel): (Size, &Cancel)) -> Preview {
    let extents = volume.extents(entry.id).unwrap_or_default();
    let mut preview = Preview {
        id: entry.id,
        text: None,
        about: None,
        first_at: extents.first().and_then(|extent| extent.volume_at),
        bytes: Vec::new(),
        whole: true,
        picture: None,
        picture_size: None,
        streams: volume.streams(entry.id).unwrap_or_default(),
        ground,
        problem: None,
    };
    let mut stream = match volume.open(entry.id, "") {
        Ok(stream) => stream,
        Err(error) => {
            preview.problem = Some(error.to_string());
            return preview;
        }
    };
    (preview.bytes, preview.whole) = read_whole(stream.as_mut(), PREVIEW_BYTES);
    let pictured = is_picture(&preview.bytes);
    if pictured && stream.bytes() <= PICTURE_BYTES as u64 {
        match decoded_picture(stream.as_mut()) {
            Ok(picture) => {
                preview.picture_size = Some((picture.width(), picture.height()));
                preview.picture = in_cells(&picture, size);
            }
            Err(why) => preview.problem = Some(why),
        }
        return preview;
    }
    preview.text = decoded(&preview.bytes[..preview.bytes.len().min(TEXT_BYTES)]);
    preview.about = about(volume, entry, cancel);
    preview
}

/// A small form of the picture in `entry`, or why there is none.
pub(super) fn picture_of(volume: &dyn Volume, entry: &Entry, size: Size) -> Result<Protocol, String> {
    let mut stream = volume.open(entry.id, "").map_err(|error| error.to_string())?;
    let (head, _) = read_whole(stream.as_mut(), 16);
    match () {
        () if !is_picture(&head) => Err("not shown here".into()),
        () if stream.bytes() > PICTURE_BYTES as u64 => Err("too large to be shown".into()),
        () => in_cells(&decoded_picture(stream.as_mut())?, size).ok_or_else(|| "cannot be shown".into()),
    }
}

/// True for the first bytes of a picture that is decoded here.
fn is_picture(head: &[u8]) -> bool {
    let marks: [&[u8]; 5] = [b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff", b"GIF87a", b"GIF89a", b"BM"];
    marks.iter().any(|mark| head.starts_with(mark)) || (head.starts_with(b"RIFF") && head.get(8..12) == Some(b"WEBP"))
}

fn decoded_picture(stream: &mut dyn StreamReader) -> Result<image::DynamicImage, String> {
    let (bytes, _) = read_whole(stream, PICTURE_BYTES);
    keel_draw::decode(&bytes).map_err(|error| format!("the picture does not decode: {error}"))
}

/// The picture in whole character cells, as large as `size` allows.
fn in_cells(picture: &image::DynamicImage, size: Size) -> Option<Protocol> {
    let picker = Picker::halfblocks();
    let (wide, high) = picker.font_size();
    let room = (u32::from(size.width) * u32::from(wide), u32::from(size.height) * u32::from(high));
    let scale =
        f64::min(f64::from(room.0) / f64::from(picture.width().max(1)), f64::from(room.1) / f64::from(picture.height().max(1)));
    let cells =
        |pixels: u32, cell: u16, most: u16| ((f64::from(pixels) * scale / f64::from(cell)).round() as u16).clamp(1, most.max(1));
    let fitted = Size::new(cells(picture.width(), wide, size.width), cells(picture.height(), high, size.height));
    let whole = picture.resize_exact(
        u32::from(fitted.width) * u32::from(wide),
        u32::from(fitted.height) * u32::from(high),
        FilterType::Triangle,
    );
    picker.new_protocol(whole, fitted.into(), Resize::Fit(None)).ok()
}
