//! Pictures, decoded under limits and made small.

use std::io::Cursor;

use image::codecs::jpeg::JpegEncoder;
use image::{DynamicImage, ImageDecoder, ImageResult};

use crate::canvas::Thumb;

/// The widest and highest picture that is decoded, in pixels.
const LONGEST_SIDE: u32 = 20_000;
/// The most memory that one may take, in bytes.
const MOST_MEMORY: u64 = 96 << 20;
/// The sides of a small one at most, in pixels.
const SMALL: (u32, u32) = (320, 240);
/// Quality of its JPEG file, of 100.
const QUALITY: u8 = 72;

/// Decodes a picture, upright: a hostile one does not fill memory.
///
/// # Errors
/// As the decoder says.
pub fn decode(bytes: &[u8]) -> ImageResult<DynamicImage> {
    let mut reader = image::ImageReader::new(Cursor::new(bytes)).with_guessed_format()?;
    let mut limits = image::Limits::default();
    (limits.max_image_width, limits.max_image_height) = (Some(LONGEST_SIDE), Some(LONGEST_SIDE));
    limits.max_alloc = Some(MOST_MEMORY);
    reader.limits(limits);
    let mut decoder = reader.into_decoder()?;
    let turned = decoder.orientation()?;
    let mut picture = DynamicImage::from_decoder(decoder)?;
    picture.apply_orientation(turned);
    Ok(picture)
}

/// A small picture of `bytes`; none where they do not decode.
#[must_use]
pub fn thumb(bytes: &[u8]) -> Option<Thumb> {
    let small = decode(bytes).ok()?.thumbnail(SMALL.0, SMALL.1).into_rgb8();
    let mut jpeg = Vec::new();
    JpegEncoder::new_with_quality(&mut jpeg, QUALITY).encode_image(&small).ok()?;
    Some(Thumb { jpeg, pixels: small.dimensions() })
}
