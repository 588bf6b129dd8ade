//! The courses of figures, one below the other over the same time, with their jumps.

use adzeman::core::figures::{FigureNow, Jump, Point};
use plotters::prelude::*;

use super::{Area, DONE, FAILED, FAINT, Failure, INK, REFUSED, failed, picture, text};

const TOP: u32 = 84;
const MARGIN: u32 = 24;
const LEFT: u32 = 90;
/// Of the axis below the last one.
const BELOW: u32 = 44;
/// Of the title of each.
const TITLE: u32 = 26;
/// Figures that there is room for.
const MOST: usize = 8;

/// A figure with its course.
pub(crate) struct Followed {
    pub(crate) figure: FigureNow,
    pub(crate) points: Vec<Point>,
    pub(crate) jumps: Vec<Jump>,
}

/// Draws figures, of which one at least has a course, as SVG. Where they are too many, those that jumped come first.
pub(crate) fn draw(all: &[Followed], host: &str) -> Result<String, Failure> {
    let mut shown: Vec<&Followed> = all.iter().filter(|figure| !figure.points.is_empty()).collect();
    let left_out = shown.len().saturating_sub(MOST);
    if left_out > 0 {
        shown.sort_by_key(|figure| figure.jumps.is_empty());
        shown.truncate(MOST);
    }
    let seconds = || shown.iter().flat_map(|figure| &figure.points).map(|point| point.seconds);
    let (from, to) = (seconds().fold(f64::INFINITY, f64::min), seconds().fold(f64::NEG_INFINITY, f64::max));
    let to = if to > from { to } else { from + 1.0 };
    picture(|area| {
        title(area, host, (from, to), left_out)?;
        let (_, plots) = area.split_vertically(TOP);
        let plots = plots.margin(0, 8, MARGIN, MARGIN);
        let (_, height) = plots.dim_in_pixel();
        let each = height.saturating_sub(BELOW) / u32::try_from(shown.len()).unwrap_or(1).max(1);
        let mut rest = plots;
        for (number, figure) in shown.iter().enumerate() {
            let is_last = number + 1 == shown.len();
            let (own, below) = rest.split_vertically(if is_last { each + BELOW } else { each });
            draw_one(&own, figure, (from, to), is_last)?;
            rest = below;
        }
        Ok(())
    })
}

fn title(area: &Area<'_>, host: &str, (from, to): (f64, f64), left_out: usize) -> Result<(), Failure> {
    let words = format!("Figures of {host}, {from:.1} s to {to:.1} s by the host's clock");
    area.draw_text(&words, &text(20, INK), (24, 18)).map_err(failed)?;
    let more = if left_out > 0 { format!("; {left_out} more have no room") } else { String::new() };
    let words = format!("red: it jumped; grey: what is usual; the band is from the least to the most{more}");
    area.draw_text(&words, &text(15, INK), (24, 52)).map_err(failed)
}

fn draw_one(area: &Area<'_>, figure: &Followed, (from, to): (f64, f64), has_axis: bool) -> Result<(), Failure> {
    let Followed { figure: now, points, jumps } = figure;
    let (scale, unit) = scale(now);
    let least = points.iter().map(|point| point.least).fold(f64::INFINITY, f64::min) / scale;
    let most = points.iter().map(|point| point.most).fold(f64::NEG_INFINITY, f64::max) / scale;
    let room = if most > least { (most - least) * 0.15 } else { most.abs().max(1.0) * 0.1 };
    let mut chart = ChartBuilder::on(area)
        .margin_top(TITLE)
        .x_label_area_size(if has_axis { BELOW } else { 4 })
        .y_label_area_size(LEFT)
        .build_cartesian_2d(from..to, least - room..most + room)
        .map_err(failed)?;
    if let Some((low, high)) = now.usual {
        let (low, high) = ((low / scale).max(least - room), (high / scale).min(most + room));
        if low < high {
            chart.draw_series([Rectangle::new([(from, low), (to, high)], FAINT.filled())]).map_err(failed)?;
        }
    }
    let mut mesh = chart.configure_mesh();
    mesh.max_light_lines(1).light_line_style(FAINT).bold_line_style(FAINT).y_labels(4).label_style(text(13, INK));
    if has_axis {
        mesh.x_desc("time, s").axis_desc_style(text(15, INK));
    } else {
        mesh.x_labels(0);
    }
    mesh.draw().map_err(failed)?;
    let band: Vec<(f64, f64)> = points
        .iter()
        .map(|point| (point.seconds, point.most / scale))
        .chain(points.iter().rev().map(|point| (point.seconds, point.least / scale)))
        .collect();
    chart.draw_series([Polygon::new(band, DONE.mix(0.2).filled())]).map_err(failed)?;
    let line = points.iter().map(|point| (point.seconds, point.mean / scale));
    chart.draw_series(LineSeries::new(line, &DONE)).map_err(failed)?;
    for jump in jumps {
        let ends = vec![(jump.seconds, jump.from / scale), (jump.seconds, jump.to / scale)];
        chart.draw_series([PathElement::new(ends, FAILED.stroke_width(2))]).map_err(failed)?;
        chart.draw_series([Circle::new((jump.seconds, jump.to / scale), 3, FAILED.filled())]).map_err(failed)?;
    }
    let off = now.from_usual() != 0.0;
    let value = now.value.unwrap_or_default() / scale;
    let unit = if unit.is_empty() { String::new() } else { format!(" {unit}") };
    let words = format!("{}: {value:.1}{unit}", now.name);
    let words = words.replace(".0 ", " ");
    let at = (i32::try_from(LEFT).unwrap_or(0), 6);
    area.draw_text(&words, &text(14, if off { REFUSED } else { INK }), at).map_err(failed)
}

/// By what values are divided, and the unit that they have then.
fn scale(figure: &FigureNow) -> (f64, &str) {
    match figure.most {
        Some(most) if figure.unit == "B" && most >= 1_048_576.0 => (1_048_576.0, "MiB"),
        Some(most) if figure.unit == "B" && most >= 1024.0 => (1024.0, "KiB"),
        _ => (1.0, &figure.unit),
    }
}

#[cfg(test)]
mod tests {
    use adzeman::core::figures::Course;

    use super::*;

    fn followed(name: &str, value: impl Fn(u32) -> f64) -> Followed {
        let mut course = Course::default();
        (0..200).for_each(|at| course.note(f64::from(at), value(at), || None));
        let figure = course.now(name, "", "B", Some((0.0, 3000.0)));
        Followed { figure, points: course.points().to_vec(), jumps: course.jumps().to_vec() }
    }

    #[test]
    fn each_figure_has_its_course_and_jumps_are_marked() {
        let all = [followed("<ledger>.memory", |at| if at < 90 { 2048.0 } else { 8192.0 }), followed("flat", |_| 5.0)];
        let svg = draw(&all, "lockside").unwrap();
        for part in ["&lt;ledger&gt;.memory: 8 KiB", "flat: 5 B", "time, s"] {
            assert!(svg.contains(part), "{part}");
        }
        assert_eq!(svg.matches("<circle").count(), 1, "one jump");
        assert!(!svg.contains("NaN"));
        let many: Vec<_> = (0..20).map(|n| followed(&format!("f{n}"), f64::from)).collect();
        assert!(draw(&many, "lockside").unwrap().contains("12 more have no room"));
    }
}
