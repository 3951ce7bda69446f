//! Pictures as SVG and PNG; how they look is fixed in `docs/looks.md`.

mod course;
mod flames;
mod histogram;
mod lanes;

pub(crate) use course::{Course, Curve, Waveform};
pub(crate) use flames::Flames;
pub(crate) use histogram::{Bars, Histograms};
pub(crate) use lanes::Lanes;

use anyhow::{Context as _, Result, anyhow, bail};
use plotters::coord::Shift;
use plotters::prelude::{BitMapBackend, DrawingArea, DrawingBackend, IntoDrawingArea as _};
use plotters::prelude::{RGBColor, SVGBackend};
use plotters::style::{FontStyle, IntoFont as _, TextStyle, register_font};
use std::path::{Path, PathBuf};
use std::str::FromStr;

/// Text.
const TEXT: RGBColor = RGBColor(0x22, 0x22, 0x22);
/// What it stands on.
const GROUND: RGBColor = RGBColor(0xfb, 0xfa, 0xf7);
/// Figures drawn: bars, curves.
const FIGURE: RGBColor = RGBColor(0x1f, 0x5f, 0xa8);
/// Doubt and trouble.
const ALARM: RGBColor = RGBColor(0xd7, 0x5f, 0x00);
/// What matters less.
const FAINT: RGBColor = RGBColor(0x77, 0x77, 0x77);

/// The font that is built in, in bitmaps; viewers of SVG take their own.
const FONT: &str = "sans-serif";
static GLYPHS: &[u8] = include_bytes!("../../../assets/sans.ttf");

/// A picture's width in pixels.
const WIDTH: u32 = 1280;

/// An area that is drawn on.
type Area<B> = DrawingArea<B, Shift>;

/// Where a picture goes: the ending of its name says what it becomes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum PictureFile {
    Svg(PathBuf),
    Png(PathBuf),
}

impl FromStr for PictureFile {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let path = PathBuf::from(text);
        match path.extension().and_then(|ending| ending.to_str()) {
            Some("svg") => Ok(Self::Svg(path)),
            Some("png") => Ok(Self::Png(path)),
            _ => Err("a picture's name ends in .svg or .png".to_owned()),
        }
    }
}

/// Something that can be drawn, on whatever.
pub(crate) trait Drawing {
    /// How high it is, in pixels.
    fn height(&self) -> u32;
    /// Draws it.
    fn draw<B: DrawingBackend>(&self, area: &Area<B>) -> Result<()>;
}

/// Draws into a file, which is replaced.
pub(crate) fn save(file: &PictureFile, drawing: &impl Drawing) -> Result<()> {
    register_font(FONT, FontStyle::Normal, GLYPHS)
        .map_err(|_| anyhow!("the font that is built in is damaged"))?;
    let size = (WIDTH, drawing.height());
    let (path, drawn) = match file {
        PictureFile::Svg(path) => {
            // The library ends the picture when it goes, and could not say that a disk is full.
            let mut text = String::new();
            let drawn =
                fill(&SVGBackend::with_string(&mut text, size).into_drawing_area(), drawing);
            (path, drawn.and_then(|()| write(path, text.as_bytes())))
        }
        PictureFile::Png(path) => (path, png(path, size, drawing)),
    };
    drawn.with_context(|| path.display().to_string())
}

fn png(path: &Path, size: (u32, u32), drawing: &impl Drawing) -> Result<()> {
    let mut pixels = vec![0_u8; size.0 as usize * size.1 as usize * 3];
    fill(&BitMapBackend::with_buffer(&mut pixels, size).into_drawing_area(), drawing)?;
    let mut bytes = Vec::new();
    let mut encoder = png::Encoder::new(&mut bytes, size.0, size.1);
    encoder.set_color(png::ColorType::Rgb);
    encoder.write_header()?.write_image_data(&pixels)?;
    write(path, &bytes)
}

fn write(path: &Path, bytes: &[u8]) -> Result<()> {
    if path.is_dir() {
        bail!("is a folder; name a file");
    }
    Ok(std::fs::write(path, bytes)?)
}

fn fill<B: DrawingBackend>(area: &Area<B>, drawing: &impl Drawing) -> Result<()> {
    area.fill(&GROUND).map_err(drawn)?;
    drawing.draw(area)?;
    area.present().map_err(drawn)
}

/// What went wrong while drawing.
fn drawn<E: std::error::Error + Send + Sync>(
    error: plotters::drawing::DrawingAreaErrorKind<E>,
) -> anyhow::Error {
    anyhow!("it cannot be drawn: {error}")
}

/// Text of a size and colour.
fn text<'a>(size: u32, color: &'a RGBColor) -> TextStyle<'a> {
    TextStyle::from((FONT, size).into_font()).color(color)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_ending_says_what_a_picture_becomes() {
        assert_eq!("a/b.svg".parse(), Ok(PictureFile::Svg("a/b.svg".into())));
        assert_eq!("b.png".parse(), Ok(PictureFile::Png("b.png".into())));
        assert!("swo.bin".parse::<PictureFile>().is_err());
        assert!("svg".parse::<PictureFile>().is_err());
    }
}
