//! A trail as a picture: one lane a context, one bar an event, what monitors sampled below.

use std::collections::BTreeMap;

use adzeman::core::trail::{Entry, Outcome, Speaker};
use plotters::prelude::*;

use super::{Area, DONE, FAILED, FAINT, Failure, INK, OVER, REFUSED, failed, legend, picture, text};

/// A bar is at least this wide, so that none is lost.
const BAR_PIXELS: f64 = 2.0;
/// Room for names on the left, for the axis below, and around all of it.
const LEFT: u32 = 150;
const BELOW: u32 = 40;
const MARGIN: u32 = 24;
/// Of the title with what the colours mean.
const TOP: u32 = 84;
/// Lanes, and curves, that there is room for.
const MOST_LANES: usize = 16;
const MOST_CURVES: usize = 3;
const CURVE_HEIGHT: u32 = 110;

/// Heights of the cheapest and the dearest bar, in lanes.
const LOWEST: f64 = 0.06;
const HIGHEST: f64 = 0.9;

/// What is of no context that is known.
const NO_CONTEXT: &str = "(host)";
const OTHERS: &str = "(others)";

fn colour(entry: &Entry) -> (RGBColor, &'static str) {
    match entry.outcome {
        Outcome::Failed => (FAILED, "failed"),
        Outcome::Refused => (REFUSED, "refused"),
        Outcome::Done if entry.is_over_budget() => (OVER, "over its budget"),
        Outcome::Done => (DONE, "done"),
    }
}

/// Draws events, of which there is one at least, as SVG. `of` says whose they are.
pub(crate) fn draw(entries: &[Entry], of: &str) -> Result<String, Failure> {
    picture(|area| {
        let span = span(entries);
        title(area, entries, of, span)?;
        let (_, plots) = area.split_vertically(TOP);
        let plots = plots.margin(0, MARGIN, MARGIN, MARGIN);
        let curves = curves(entries);
        let of_curves = CURVE_HEIGHT * u32::try_from(curves.len()).unwrap_or(0);
        let (_, height) = plots.dim_in_pixel();
        let (lanes, below) = plots.split_vertically(height.saturating_sub(of_curves));
        draw_lanes(&lanes, entries, span)?;
        for (part, (name, samples)) in below.split_evenly((curves.len().max(1), 1)).iter().zip(&curves) {
            draw_curve(part, name, samples, span)?;
        }
        Ok(())
    })
}

/// From the first beginning to the last end, in seconds.
fn span(entries: &[Entry]) -> (f64, f64) {
    let first = entries.iter().map(|entry| entry.seconds).fold(f64::INFINITY, f64::min);
    let last = entries.iter().map(|entry| entry.seconds + entry.milliseconds / 1000.0).fold(first, f64::max);
    (first, if last > first { last } else { first + 0.001 })
}

fn title(area: &Area<'_>, entries: &[Entry], of: &str, (from, to): (f64, f64)) -> Result<(), Failure> {
    let words = format!("{} events of {of}, {from:.3} s to {to:.3} s by the host's clock", entries.len());
    area.draw_text(&words, &text(20, INK), (24, 18)).map_err(failed)?;
    let mut counts: BTreeMap<&str, (RGBColor, usize)> = BTreeMap::new();
    for entry in entries {
        let (colour, name) = colour(entry);
        counts.entry(name).or_insert((colour, 0)).1 += 1;
    }
    let worst = entries.iter().map(|entry| entry.milliseconds).fold(0.0, f64::max);
    let words = format!("the length of a bar, and its height, is what the event took; the highest took {worst:.3} ms");
    area.draw_text(&words, &text(14, INK), (640, 53)).map_err(failed)?;
    legend(area, counts.into_iter().map(|(name, (colour, count))| (Some(colour), format!("{count} {name}"))))
}

/// The contexts that have a lane, the busiest ones where there are too many.
fn lanes(entries: &[Entry]) -> Vec<String> {
    let mut took: BTreeMap<&str, f64> = BTreeMap::new();
    for entry in entries {
        *took.entry(lane(entry)).or_default() += entry.milliseconds;
    }
    let mut names: Vec<_> = took.into_iter().collect();
    if names.len() > MOST_LANES {
        names.sort_by(|a, b| b.1.total_cmp(&a.1));
        names.truncate(MOST_LANES - 1);
        names.push((OTHERS, 0.0));
    }
    names.into_iter().map(|(name, _)| name.to_owned()).collect()
}

fn lane(entry: &Entry) -> &str {
    entry.contexts.first().map_or(NO_CONTEXT, String::as_str)
}

fn draw_lanes(area: &Area<'_>, entries: &[Entry], (from, to): (f64, f64)) -> Result<(), Failure> {
    let names = lanes(entries);
    let count = u32::try_from(names.len()).unwrap_or(1);
    let mut chart = ChartBuilder::on(area)
        .x_label_area_size(BELOW)
        .y_label_area_size(LEFT)
        .build_cartesian_2d(from..to, 0.0..f64::from(count))
        .map_err(failed)?;
    chart
        .configure_mesh()
        .disable_y_mesh()
        .disable_y_axis()
        .max_light_lines(1)
        .light_line_style(FAINT)
        .bold_line_style(FAINT)
        .x_desc("time, s")
        .x_label_formatter(&|seconds| seconds_of(*seconds, to - from))
        .axis_desc_style(text(15, INK))
        .label_style(text(13, INK))
        .draw()
        .map_err(failed)?;
    let wide = chart.plotting_area().dim_in_pixel().0;
    let least = (to - from) * BAR_PIXELS / f64::from(wide.max(1));
    for (number, name) in (0_u32..).zip(&names) {
        let middle = f64::from(count - number) - 0.5;
        let (x, y) = chart.plotting_area().map_coordinate(&(from, middle));
        let (left, top) = area.get_base_pixel();
        let at = (x - left - i32::try_from(LEFT).unwrap_or(0) + 4, y - top - 8);
        area.draw_text(&cut(name), &text(14, INK), at).map_err(failed)?;
        let line = PathElement::new(vec![(from, middle - 0.5), (to, middle - 0.5)], FAINT);
        chart.plotting_area().draw(&line).map_err(failed)?;
    }
    let last = names.len().saturating_sub(1);
    // What is rare, and what is inside another one, is drawn above the rest.
    let mut ordered: Vec<&Entry> = entries.iter().collect();
    ordered.sort_by_key(|entry| (entry.within.is_some(), entry.outcome != Outcome::Done, entry.is_over_budget()));
    let worst = entries.iter().map(|entry| entry.milliseconds).fold(f64::MIN_POSITIVE, f64::max);
    for entry in ordered {
        let number = names.iter().position(|name| name == lane(entry)).unwrap_or(last);
        let ground = f64::from(count) - f64::from(u32::try_from(number).unwrap_or(0)) - 1.0;
        // Of many short ones the length is none that can be seen: the height tells them apart.
        let height = LOWEST + (HIGHEST - LOWEST) * (entry.milliseconds / worst).clamp(0.0, 1.0);
        let end = entry.seconds + (entry.milliseconds / 1000.0).max(least);
        let bar = Rectangle::new([(entry.seconds, ground), (end, ground + height)], colour(entry).0.filled());
        chart.plotting_area().draw(&bar).map_err(failed)?;
    }
    Ok(())
}

/// A name that fits beside its lane.
fn cut(name: &str) -> String {
    const WIDEST: usize = 18;
    if name.chars().count() <= WIDEST {
        return name.to_owned();
    }
    name.chars().take(WIDEST - 1).chain(['…']).collect()
}

/// As many digits as the width of the picture tells apart.
fn seconds_of(seconds: f64, width: f64) -> String {
    let digits = if width > 20.0 {
        0
    } else if width > 2.0 {
        1
    } else if width > 0.02 {
        3
    } else {
        6
    };
    format!("{seconds:.digits$}")
}

/// Samples over time, by the expressions of monitors: those that are numbers.
type Samples = Vec<(f64, f64)>;

fn curves(entries: &[Entry]) -> Vec<(String, Samples)> {
    let mut by_name: BTreeMap<&str, Samples> = BTreeMap::new();
    for entry in entries {
        for said in entry.said.iter().filter(|said| said.by == Speaker::Monitor) {
            if let (Some(of), Ok(value)) = (&said.of, said.text.parse::<f64>())
                && value.is_finite()
            {
                by_name.entry(of).or_default().push((entry.seconds, value));
            }
        }
    }
    by_name.into_iter().take(MOST_CURVES).map(|(name, samples)| (name.to_owned(), samples)).collect()
}

fn draw_curve(area: &Area<'_>, name: &str, samples: &Samples, (from, to): (f64, f64)) -> Result<(), Failure> {
    let least = samples.iter().map(|(_, value)| *value).fold(f64::INFINITY, f64::min);
    let most = samples.iter().map(|(_, value)| *value).fold(f64::NEG_INFINITY, f64::max);
    let room = if most > least { (most - least) * 0.1 } else { 1.0 };
    let mut chart = ChartBuilder::on(area)
        .margin_top(22)
        .x_label_area_size(4)
        .y_label_area_size(LEFT)
        .build_cartesian_2d(from..to, least - room..most + room)
        .map_err(failed)?;
    chart
        .configure_mesh()
        .disable_x_mesh()
        .x_labels(0)
        .y_labels(4)
        .max_light_lines(1)
        .light_line_style(FAINT)
        .bold_line_style(FAINT)
        .label_style(text(13, INK))
        .draw()
        .map_err(failed)?;
    chart.draw_series(LineSeries::new(samples.iter().copied(), &DONE)).map_err(failed)?;
    chart.draw_series(samples.iter().map(|at| Circle::new(*at, 2, DONE.filled()))).map_err(failed)?;
    let at = (i32::try_from(LEFT).unwrap_or(0), 4);
    area.draw_text(name, &text(14, INK), at).map_err(failed)
}

#[cfg(test)]
mod tests {
    use adzeman::core::trail::Said;

    use super::*;

    fn entry(number: u64, context: &str, outcome: Outcome) -> Entry {
        Entry {
            number,
            seconds: f64::from(u32::try_from(number).unwrap()) / 100.0,
            event: "frame.update".into(),
            subject: None,
            within: None,
            contexts: vec![context.into()],
            milliseconds: 0.2,
            budget_milliseconds: Some(if number == 7 { 0.1 } else { 1.0 }),
            outcome,
            why: None,
            runs: 1,
            payload: serde_json::Value::Null,
            payload_left_out: None,
            said: vec![Said { by: Speaker::Monitor, of: Some("rain < 2".into()), text: number.to_string() }],
        }
    }

    #[test]
    fn every_event_has_a_bar_in_the_lane_of_its_context() {
        let mut entries: Vec<_> = (0..200).map(|number| entry(number, "lock.<upper>", Outcome::Done)).collect();
        entries.push(entry(200, "ledger", Outcome::Failed));
        let svg = draw(&entries, "lockside").unwrap();
        // The ground, and those that say what colours mean, are rectangles, too.
        let kinds = 3;
        assert_eq!(svg.matches("<rect").count(), 201 + kinds + 1);
        for part in
            ["lock.&lt;upper&gt;", "ledger", "rain &lt; 2", "time, s", "1 failed", "1 over its budget", "199 done"]
        {
            assert!(svg.contains(part), "{part}");
        }
    }

    #[test]
    fn many_contexts_and_a_single_moment_fit() {
        let entries: Vec<_> = (0..100).map(|number| entry(5, &format!("job-{number}"), Outcome::Done)).collect();
        let svg = draw(&entries, "lockside").unwrap();
        assert!(svg.contains("(others)") && !svg.contains("NaN"));
    }
}
