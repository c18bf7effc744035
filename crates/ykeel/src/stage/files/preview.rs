//! A preview of one file: text, picture or bytes.

use image::imageops::FilterType;
use keel_core::files::FileGround;
use keel_format::content::is_text;
use keel_format::{Entry, NodeId, StreamInfo, Volume, read_whole};
use ratatui::layout::Size;
use ratatui_image::Resize;
use ratatui_image::picker::Picker;
use ratatui_image::protocol::Protocol;

/// The most of a file that a preview reads.
const PREVIEW_BYTES: usize = 256 << 10;
/// The most of a picture that is read and decoded.
const PICTURE_BYTES: usize = 16 << 20;
/// The largest side of a picture that is decoded.
const PICTURE_SIDE: u32 = 8192;

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
}

impl Preview {
    /// True when the bytes read as text.
    pub(crate) fn is_text(&self) -> bool {
        is_text(&self.bytes[..self.bytes.len().min(4096)])
    }
}

/// Reads the preview of `entry`, a picture fitted into `size` cells.
pub(super) fn preview(volume: &dyn Volume, entry: &Entry, ground: FileGround, size: Size) -> Preview {
    let mut preview = Preview {
        id: entry.id,
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
    let pictured = preview.bytes.starts_with(b"\x89PNG\r\n\x1a\n") || preview.bytes.starts_with(b"\xff\xd8\xff");
    if pictured && stream.bytes() <= PICTURE_BYTES as u64 {
        let (bytes, _) = read_whole(stream.as_mut(), PICTURE_BYTES);
        match decode(&bytes) {
            Ok(picture) => {
                preview.picture_size = Some((picture.width(), picture.height()));
                preview.picture = in_cells(&picture, size);
            }
            Err(error) => preview.problem = Some(format!("the picture does not decode: {error}")),
        }
    }
    preview
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

/// Decodes a picture under limits: a hostile one must not fill memory.
fn decode(bytes: &[u8]) -> image::ImageResult<image::DynamicImage> {
    let mut reader = image::ImageReader::new(std::io::Cursor::new(bytes)).with_guessed_format()?;
    let mut limits = image::Limits::default();
    limits.max_image_width = Some(PICTURE_SIDE);
    limits.max_image_height = Some(PICTURE_SIDE);
    limits.max_alloc = Some(96 << 20);
    reader.limits(limits);
    reader.decode()
}
