//! Where things lie, as a map with a scale, axes and names.

use std::collections::HashSet;

use adzeman::core::plan::{Area as Extent, Outside, Overlap, Thing};
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};

use super::{Area, DONE, FAILED, FAINT, Failure, HEIGHT, INK, REFUSED, WIDTH, failed, legend, picture, text};

/// Room for the title, around the map, and for the axes.
const TOP: u32 = 84;
const MARGIN: u32 = 30;
const AXIS: u32 = 52;
/// Things that have room for their names.
const MOST_NAMES: usize = 60;
/// How much larger one axis may be drawn than the other where all of it would be a strip otherwise.
const MOST_STRETCH: f64 = 20.0;
/// Share of the extent that is left free around it.
const FREE: f64 = 0.06;
/// A point is drawn as large, in pixels.
const POINT: i32 = 4;
const GROUND: RGBColor = RGBColor(0xe6, 0xf1, 0xf5);
const SHORE: RGBColor = RGBColor(0x8f, 0xb4, 0xc2);

/// What is drawn.
pub(crate) struct Map<'a> {
    pub(crate) title: &'a str,
    pub(crate) things: &'a [Thing],
    pub(crate) overlaps: &'a [Overlap],
    pub(crate) outside: &'a [Outside],
    pub(crate) unit: Option<&'a str>,
}

/// Draws things, of which there is one at least, as SVG.
pub(crate) fn draw(map: &Map<'_>) -> Result<String, Failure> {
    picture(|area| {
        let (scale, stretch) = Scale::of(map.things);
        title(area, map, stretch)?;
        let (_, plot) = area.split_vertically(TOP);
        draw_things(&plot.margin(0, MARGIN, MARGIN, MARGIN), map, &scale)
    })
}

/// The part of the plane that is drawn.
struct Scale {
    x: std::ops::Range<f64>,
    y: std::ops::Range<f64>,
}

impl Scale {
    /// As large as it can be, both axes alike, or one of them stretched; by how much.
    fn of(things: &[Thing]) -> (Self, f64) {
        let bounds = things.iter().map(Thing::bounds).reduce(|a, b| Extent {
            left: a.left.min(b.left),
            low: a.low.min(b.low),
            right: a.right.max(b.right),
            high: a.high.max(b.high),
        });
        let bounds = bounds.unwrap_or(Extent { left: 0.0, low: 0.0, right: 1.0, high: 1.0 });
        let pixels = |room: u32, axis: u32| f64::from(room.saturating_sub(2 * MARGIN + axis).max(1));
        let (wide, high) = (pixels(WIDTH, AXIS), pixels(HEIGHT - TOP, AXIS));
        let larger = |size: f64| if size > 0.0 { size * (1.0 + 2.0 * FREE) } else { 1.0 };
        let (mut width, mut height) = (larger(bounds.right - bounds.left), larger(bounds.high - bounds.low));
        // Units a pixel, on each axis.
        let (by_x, by_y) = (width / wide, height / high);
        let stretch = (by_x / by_y).clamp(1.0 / MOST_STRETCH, MOST_STRETCH);
        let stretch = if (0.4..=2.5).contains(&stretch) { 1.0 } else { stretch };
        if by_x > by_y * stretch {
            height = by_x / stretch * high;
        } else {
            width = by_y * stretch * wide;
        }
        let (x, y) = ((bounds.left + bounds.right) / 2.0, (bounds.low + bounds.high) / 2.0);
        let around = |middle: f64, size: f64| middle - size / 2.0..middle + size / 2.0;
        (Self { x: around(x, width), y: around(y, height) }, stretch)
    }
}

fn title(area: &Area<'_>, map: &Map<'_>, stretch: f64) -> Result<(), Failure> {
    area.draw_text(map.title, &text(20, INK), (24, 18)).map_err(failed)?;
    let grounds = map.things.iter().filter(|thing| thing.ground).count();
    let (things, overlapping, outside) = (map.things.len() - grounds, map.overlaps.len(), map.outside.len());
    let stretched = if (stretch - 1.0).abs() < 0.01 {
        "both axes are to one scale".to_owned()
    } else if stretch > 1.0 {
        format!("y is drawn {stretch:.1} times as large as x")
    } else {
        format!("x is drawn {:.1} times as large as y", 1.0 / stretch)
    };
    let parts = [
        (Some(DONE), format!("{things} things")),
        (Some(SHORE), format!("{grounds} that others lie on")),
        (Some(FAILED), format!("{overlapping} overlap")),
        (Some(REFUSED), format!("{outside} outside")),
        (None, stretched),
    ];
    legend(area, parts)
}

fn draw_things(area: &Area<'_>, map: &Map<'_>, scale: &Scale) -> Result<(), Failure> {
    let mut chart = ChartBuilder::on(area)
        .x_label_area_size(AXIS)
        .y_label_area_size(AXIS)
        .build_cartesian_2d(scale.x.clone(), scale.y.clone())
        .map_err(failed)?;
    let described = |axis: &str| map.unit.map_or(axis.to_owned(), |unit| format!("{axis}, {unit}"));
    chart
        .configure_mesh()
        .max_light_lines(1)
        .light_line_style(FAINT)
        .bold_line_style(FAINT)
        .x_desc(described("x"))
        .y_desc(described("y"))
        .axis_desc_style(text(15, INK))
        .label_style(text(13, INK))
        .draw()
        .map_err(failed)?;
    let overlapping: HashSet<&str> = map.overlaps.iter().flat_map(|pair| [&*pair.first, &*pair.second]).collect();
    let outside: HashSet<&str> = map.outside.iter().map(|thing| &*thing.path).collect();
    let colour = |thing: &Thing| match thing {
        thing if overlapping.contains(&*thing.path) => FAILED,
        thing if outside.contains(&*thing.path) => REFUSED,
        thing if thing.ground => SHORE,
        _ => DONE,
    };
    // What others lie on is drawn below them.
    let mut ordered: Vec<&Thing> = map.things.iter().collect();
    ordered.sort_by_key(|thing| !thing.ground);
    for thing in &ordered {
        let colour = colour(thing);
        let corners = thing.corners().map(|[x, y]| (x, y));
        if thing.length == 0.0 && thing.width == 0.0 {
            let point = Circle::new((thing.x, thing.y), POINT, colour.filled());
            chart.draw_series([point]).map_err(failed)?;
            continue;
        }
        let fill = if thing.ground { GROUND.filled() } else { colour.mix(0.55).filled() };
        chart.draw_series([Polygon::new(corners, fill)]).map_err(failed)?;
        let mut outline = corners.to_vec();
        outline.push(corners[0]);
        chart.draw_series([PathElement::new(outline, colour)]).map_err(failed)?;
        // A line from the middle to its front says which way it points.
        if thing.degrees.is_some() {
            let front = ((corners[1].0 + corners[2].0) / 2.0, (corners[1].1 + corners[2].1) / 2.0);
            chart
                .draw_series([PathElement::new(vec![(thing.x, thing.y), front], colour.stroke_width(2))])
                .map_err(failed)?;
        }
    }
    let anchor = |pos| Pos::new(HPos::Center, pos);
    for (number, thing) in ordered.iter().enumerate().take(MOST_NAMES) {
        let note = thing.note.as_ref().map_or(String::new(), |note| format!(" {note}"));
        let bounds = thing.bounds();
        // Names of neighbours alternate, so that they are less in each other's way.
        let (y, pos) = if thing.ground {
            (bounds.high, VPos::Bottom)
        } else if number % 2 == 0 {
            (bounds.low, VPos::Top)
        } else {
            (bounds.high, VPos::Bottom)
        };
        let style = text(13, INK).pos(anchor(pos));
        chart.draw_series([Text::new(format!("{}{note}", short(&thing.name)), (thing.x, y), style)]).map_err(failed)?;
    }
    Ok(())
}

/// A path without what all of them begin with.
fn short(name: &str) -> &str {
    name.strip_prefix("host.").unwrap_or(name)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn thing(name: &str, x: f64, ground: bool) -> Thing {
        Thing {
            path: name.into(),
            name: name.into(),
            x,
            y: 0.0,
            length: 20.0,
            width: 4.0,
            degrees: Some(0.0),
            ground,
            note: None,
        }
    }

    #[test]
    fn every_thing_is_drawn_with_its_name_and_what_is_wrong_with_it() {
        let things = [thing("<upper>", 0.0, true), thing("Heron", 5.0, false), thing("Otter", 15.0, false)];
        let overlaps = [Overlap { first: "Heron".into(), second: "Otter".into(), by: 4.0 }];
        let map = Map { title: "lockside", things: &things, overlaps: &overlaps, outside: &[], unit: Some("m") };
        let svg = draw(&map).unwrap();
        for part in ["&lt;upper&gt;", "Heron", "Otter", "1 overlap", "2 things", "x, m"] {
            assert!(svg.contains(part), "{part}");
        }
        assert_eq!(svg.matches("<polygon").count(), 3);
        assert!(!svg.contains("NaN"));
    }

    #[test]
    fn a_point_and_a_long_strip_fit() {
        let point = Thing { length: 0.0, width: 0.0, degrees: None, ..thing("buoy", 1.0, false) };
        for things in [vec![point.clone()], vec![thing("a", 0.0, false), thing("b", 5000.0, false)]] {
            let map = Map { title: "", things: &things, overlaps: &[], outside: &[], unit: None };
            assert!(!draw(&map).unwrap().contains("NaN"));
        }
        let (_, stretch) = Scale::of(&[thing("a", 0.0, false), thing("b", 600.0, false)]);
        assert!(stretch > 5.0, "{stretch}");
        assert!((Scale::of(&[point]).1 - 1.0).abs() < 1e-9);
    }
}
