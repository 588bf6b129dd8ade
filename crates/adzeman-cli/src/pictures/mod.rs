//! What is drawn, as SVG.

mod courses;
mod flames;
mod map;
mod timeline;

use plotters::prelude::*;

pub(crate) use courses::{Followed, draw as draw_figures};
pub(crate) use flames::draw as draw_flames;
pub(crate) use map::{Map, draw as draw_map};
pub(crate) use timeline::draw as draw_timeline;

/// Of a picture, in pixels.
const WIDTH: u32 = 1280;
const HEIGHT: u32 = 800;

const DONE: RGBColor = RGBColor(0x2f, 0x7d, 0x8c);
const REFUSED: RGBColor = RGBColor(0xd9, 0x8e, 0x04);
const FAILED: RGBColor = RGBColor(0xc0, 0x2b, 0x2b);
const OVER: RGBColor = RGBColor(0x7a, 0x4f, 0xb5);
const INK: RGBColor = RGBColor(0x26, 0x2d, 0x33);
const FAINT: RGBColor = RGBColor(0xdd, 0xe2, 0xe6);

pub(crate) type Failure = Box<dyn std::error::Error + Send + Sync>;
type Area<'a> = DrawingArea<SVGBackend<'a>, plotters::coord::Shift>;

fn failed(error: impl std::fmt::Display) -> Failure {
    error.to_string().into()
}

/// A picture as SVG, with what is drawn on its white ground.
fn picture(draw: impl FnOnce(&Area<'_>) -> Result<(), Failure>) -> Result<String, Failure> {
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, (WIDTH, HEIGHT)).into_drawing_area();
        area.fill(&WHITE).map_err(failed)?;
        draw(&area)?;
        area.present().map_err(failed)?;
    }
    Ok(svg)
}

/// What colours mean, below the title; words without one stand beside them.
fn legend(area: &Area<'_>, parts: impl IntoIterator<Item = (Option<RGBColor>, String)>) -> Result<(), Failure> {
    let mut x = 24;
    for (colour, words) in parts {
        if let Some(colour) = colour {
            area.draw(&Rectangle::new([(x, 54), (x + 14, 66)], colour.filled())).map_err(failed)?;
        }
        area.draw_text(&words, &text(15, INK), (x + 20, 52)).map_err(failed)?;
        x += 52 + i32::try_from(words.chars().count() * 8).unwrap_or(0);
    }
    Ok(())
}

fn text(size: u32, colour: RGBColor) -> TextStyle<'static> {
    ("sans-serif", size).into_font().color(&colour)
}
