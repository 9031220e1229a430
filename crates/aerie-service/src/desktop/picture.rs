//! Pictures of a screen as files.

use aerie_core::desktop::Framebuffer;

/// The picture as PNG, made small to at most that width.
///
/// # Errors
/// None but where the encoder fails.
pub(crate) fn png(picture: &Framebuffer, most: u16) -> Result<Vec<u8>, png::EncodingError> {
    let (width, height, pixels) = picture.small(most);
    png_of((width, height), &pixels)
}

/// Red, green and blue of each pixel as PNG.
///
/// # Errors
/// As [`png`].
pub(crate) fn png_of((width, height): (u16, u16), pixels: &[u8]) -> Result<Vec<u8>, png::EncodingError> {
    let mut out = vec![];
    let mut encoder = png::Encoder::new(&mut out, width.into(), height.into());
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    let mut writer = encoder.write_header()?;
    writer.write_image_data(pixels)?;
    writer.finish()?;
    Ok(out)
}
