//! A picture as PNG (W3C, third edition): the SVG, painted with the fonts of this machine.

use png::{BitDepth, ColorType, Encoder, EncodingError, PixelDimensions, Unit};
use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg::{self, Tree};

use super::svg::Picture;

/// What says near the beginning of a file that it is one of ours: its chunk of text that names the software.
pub(crate) const MARK: &str = "Software\0yostel graph";

/// Dots a point where there is room: letters stay sharp on paper and on screens with many dots.
const SCALE: f64 = 2.0;

/// More dots than this, and they are not doubled.
const MANY_DOTS: f64 = 24e6;

/// More dots than this, of four bytes each, take more memory than a picture is worth.
const MOST_DOTS: f64 = 64e6;

/// Dots a metre at 96 an inch, which is what a point of SVG is.
const PER_METRE: f64 = 96.0 / 0.0254;

/// Why there is no picture.
#[derive(Debug)]
pub(crate) enum PngError {
    /// It would have more dots than [`MOST_DOTS`].
    TooLarge,
    /// There are no fonts on this machine, so there would be boxes without words.
    NoFonts,
    /// The painter refuses; with what it says.
    Refused(String),
}

/// Paints a picture.
pub(crate) fn document(picture: &Picture) -> Result<Vec<u8>, PngError> {
    let dots = picture.width * picture.height;
    if dots > MOST_DOTS {
        return Err(PngError::TooLarge);
    }
    let scale = if dots * SCALE * SCALE > MANY_DOTS { 1.0 } else { SCALE };
    let tree = Tree::from_str(&picture.text, &with_fonts()?).map_err(|error| PngError::Refused(error.to_string()))?;
    let size = tree.size().to_int_size().scale_by(scale as f32).ok_or(PngError::TooLarge)?;
    let mut dots = Pixmap::new(size.width(), size.height()).ok_or(PngError::TooLarge)?;
    resvg::render(&tree, Transform::from_scale(scale as f32, scale as f32), &mut dots.as_mut());
    encoded(dots, scale).map_err(|error| PngError::Refused(error.to_string()))
}

/// The fonts of this machine, one of which stands in for those that the picture would rather have.
fn with_fonts() -> Result<usvg::Options<'static>, PngError> {
    let mut options = usvg::Options::default();
    let fonts = options.fontdb_mut();
    fonts.load_system_fonts();
    let family = |of_one_width: bool| {
        let face = fonts.faces().find(|face| face.monospaced || !of_one_width)?;
        face.families.first().map(|(family, _)| family.clone())
    };
    let family = family(true).or_else(|| family(false)).ok_or(PngError::NoFonts)?;
    fonts.set_monospace_family(family.clone());
    // The last resort of all is one with serifs.
    fonts.set_serif_family(family);
    Ok(options)
}

/// Writes dots as PNG, with who made it and how large it is on paper.
fn encoded(dots: Pixmap, scale: f64) -> Result<Vec<u8>, EncodingError> {
    let mut bytes = Vec::new();
    let mut encoder = Encoder::new(&mut bytes, dots.width(), dots.height());
    encoder.set_color(ColorType::Rgba);
    encoder.set_depth(BitDepth::Eight);
    let per_metre = (PER_METRE * scale).round() as u32;
    encoder.set_pixel_dims(Some(PixelDimensions { xppu: per_metre, yppu: per_metre, unit: Unit::Meter }));
    let (keyword, text) = MARK.split_once('\0').unwrap_or((MARK, ""));
    encoder.add_text_chunk(keyword.to_owned(), text.to_owned())?;
    let mut writer = encoder.write_header()?;
    writer.write_image_data(&dots.take_demultiplied())?;
    writer.finish()?;
    Ok(bytes)
}
