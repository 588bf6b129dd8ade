//! Numbers of the host, and the course of one.

use std::fmt::Write as _;

use adzeman::core::figures::{FigureNow, Jump, KindSum, Point};

use super::heap::size;
use super::plan::short;
use super::table::lay_out;
use super::trail::milliseconds;
use super::{QUIET, STRONG, TROUBLE, styled};
use crate::report::ContextRow;

/// Kinds of events, and contexts, that are shown.
const MOST_ROWS: usize = 20;
/// Bars of a course.
const BARS: usize = 60;
const BLOCKS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
/// How bytes are called as a unit.
const BYTES: &str = "B";

/// What there is.
pub(super) struct Shown<'a> {
    pub(super) seconds: f64,
    pub(super) followed: f64,
    pub(super) events: &'a [KindSum],
    pub(super) counts_events: bool,
    pub(super) contexts: &'a [ContextRow],
    pub(super) own: &'a [FigureNow],
    pub(super) process: &'a [FigureNow],
}

/// A number with its unit.
fn amount(value: f64, unit: &str) -> String {
    if unit == BYTES && value >= 0.0 {
        #[expect(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "it is no less than 0, and shown with four digits"
        )]
        return size(value as u64);
    }
    let text = if value.abs() >= 1e15 { format!("{value:e}") } else { short(value) };
    let gap = if unit.is_empty() || unit == "%" { "" } else { " " };
    format!("{text}{gap}{unit}")
}

fn optional(value: Option<f64>, unit: &str) -> String {
    value.map_or(String::new(), |value| amount(value, unit))
}

/// What there is to say of a figure besides its numbers.
fn remarks(figure: &FigureNow) -> String {
    let off = figure.from_usual();
    let usual = figure.usual.filter(|_| off != 0.0).map(|(least, most)| {
        let way = if off > 0.0 { "above" } else { "below" };
        let usual = format!("{} to {}", amount(least, ""), amount(most, ""));
        format!("{} {way} the usual {usual}", amount(off.abs(), &figure.unit))
    });
    let jumps = (figure.jumps > 0).then(|| match figure.jumps {
        1 => "jumped once".to_owned(),
        count => format!("jumped {count} times"),
    });
    let parts = [figure.why.clone(), usual, jumps, Some(figure.doc.clone()).filter(|doc| !doc.is_empty())];
    parts.into_iter().flatten().collect::<Vec<_>>().join("; ")
}

fn rows(figures: &[FigureNow], columns: Option<usize>) -> String {
    let header = ["", "now", "least", "most", "mean", ""].map(str::to_owned);
    let cells = |figure: &FigureNow| {
        let unit = &figure.unit;
        vec![
            figure.name.clone(),
            optional(figure.value, unit),
            optional(figure.least, unit),
            optional(figure.most, unit),
            optional(figure.mean, unit),
            remarks(figure),
        ]
    };
    lay_out(Some(header.into()), figures.iter().map(cells), columns).text(QUIET)
}

pub(super) fn render_figures(shown: &Shown<'_>, columns: Option<usize>) -> String {
    let title = format!("at {:.1} s by the host's clock; followed for {:.1} s", shown.seconds, shown.followed);
    let mut text = styled(STRONG, &title) + "\n";
    text += &events(shown, columns);
    text += &contexts(shown, columns);
    if !shown.own.is_empty() {
        text += &rows(shown.own, columns);
    }
    text + &rows(shown.process, columns)
}

fn events(shown: &Shown<'_>, columns: Option<usize>) -> String {
    if !shown.counts_events {
        return "events are not counted: this host keeps no trail\n".to_owned();
    }
    if shown.events.is_empty() {
        return "no event has ended since\n".to_owned();
    }
    let header = ["event", "events", "a second", "took", "mean", "worst", ""].map(str::to_owned);
    #[expect(clippy::cast_precision_loss, reason = "a rate and a mean of so many events need no more digits")]
    let cells = |sum: &KindSum| {
        let events = sum.events as f64;
        let over = if sum.over_budget > 0 { format!("{} over budget", sum.over_budget) } else { String::new() };
        vec![
            sum.event.clone(),
            sum.events.to_string(),
            format!("{:.1}", events / shown.followed.max(0.001)),
            milliseconds(sum.milliseconds),
            milliseconds(sum.milliseconds / events.max(1.0)),
            format!("{} (event {})", milliseconds(sum.worst_milliseconds), sum.worst),
            over,
        ]
    };
    lay_out(Some(header.into()), shown.events.iter().take(MOST_ROWS).map(cells), columns).text(QUIET)
}

fn contexts(shown: &Shown<'_>, columns: Option<usize>) -> String {
    let header = ["context", "of the time", "memory", "least", "most", ""].map(str::to_owned);
    let cells = |row: &ContextRow| {
        let memory = |value: fn(&FigureNow) -> Option<f64>| {
            row.memory.as_ref().map_or(String::new(), |memory| optional(value(memory), BYTES))
        };
        vec![
            row.context.clone(),
            format!("{:.2}%", row.share * 100.0),
            memory(|memory| memory.value),
            memory(|memory| memory.least),
            memory(|memory| memory.most),
            row.memory
                .as_ref()
                .map_or(String::new(), |memory| remarks(&FigureNow { doc: String::new(), ..memory.clone() })),
        ]
    };
    let mut busiest: Vec<&ContextRow> = shown.contexts.iter().collect();
    busiest.sort_by(|a, b| b.share.total_cmp(&a.share));
    let rest = busiest.len().saturating_sub(MOST_ROWS);
    let mut text = lay_out(Some(header.into()), busiest.into_iter().take(MOST_ROWS).map(cells), columns).text(QUIET);
    if rest > 0 {
        let _ = writeln!(text, "{}", styled(QUIET, &format!("… and {rest} more contexts ('--json' has them)")));
    }
    text
}

pub(super) fn render_figure(figure: &FigureNow, points: &[Point], jumps: &[Jump], columns: Option<usize>) -> String {
    let mut text = styled(STRONG, &figure.name)
        + &match figure.value {
            Some(value) => format!(" is {}", amount(value, &figure.unit)),
            None => " has no value yet".to_owned(),
        };
    let (least, most) = (optional(figure.least, &figure.unit), optional(figure.most, &figure.unit));
    if figure.value.is_some() {
        let _ = write!(text, "; least {least}, most {most}, mean {}", optional(figure.mean, &figure.unit));
    }
    text += "\n";
    let said = remarks(&FigureNow { jumps: 0, ..figure.clone() });
    if !said.is_empty() {
        text += &(styled(QUIET, &said) + "\n");
    }
    if let (Some(first), Some(last)) = (points.first(), points.last()) {
        let _ = writeln!(text, "  {}", bars(points, columns));
        let span = format!("{:.1} s to {:.1} s, {} samples", first.seconds, last.seconds, figure.samples);
        text += &(styled(QUIET, &format!("  {span}")) + "\n");
    }
    for jump in jumps {
        let (from, to) = (amount(jump.from, &figure.unit), amount(jump.to, &figure.unit));
        let _ = writeln!(text, "{}", styled(TROUBLE, &format!("jumped from {from} to {to} {}", with(jump))));
    }
    text
}

/// What a jump came with.
fn with(jump: &Jump) -> String {
    let at = format!("at {:.3} s", jump.seconds);
    match &jump.cause {
        None => at,
        Some(cause) if cause.events <= 1 => format!("{at}, by {} (event {})", cause.event, cause.number),
        Some(cause) => {
            format!(
                "{at}, in one of {} events, the last of which was {} (event {})",
                cause.events, cause.event, cause.number
            )
        }
    }
}

/// The course as a line of bars, from the least to the most.
fn bars(points: &[Point], columns: Option<usize>) -> String {
    let room = columns.map_or(BARS, |columns| columns.saturating_sub(4).clamp(8, BARS));
    let (least, most) = points
        .iter()
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(least, most), point| (least.min(point.mean), most.max(point.mean)));
    let per_bar = points.len().div_ceil(room).max(1);
    let bar = |chunk: &[Point]| {
        let highest = chunk.iter().map(|point| point.mean).fold(f64::NEG_INFINITY, f64::max);
        let share = if most > least { (highest - least) / (most - least) } else { 0.5 };
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "it is from 0 to 7")]
        BLOCKS[(share * 7.0).round().clamp(0.0, 7.0) as usize]
    };
    points.chunks(per_bar).map(bar).collect()
}
