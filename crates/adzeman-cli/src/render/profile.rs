//! Where time went, as a table.

use std::fmt::Write as _;

use adzeman::core::profile::FunctionTime;

use super::table::{cut_to, lay_out};
use super::{QUIET, STRONG, styled};

/// Functions, and lines of each, that are shown.
const MOST_FUNCTIONS: usize = 30;
const MOST_LINES: usize = 3;
const WIDEST: usize = 60;

/// What was sampled, and how.
pub(super) struct Taken {
    pub(super) samples: u64,
    /// How often was looked at each thread.
    pub(super) ticks: u64,
    pub(super) passed_over: u64,
    pub(super) milliseconds: f64,
    pub(super) every: f64,
    pub(super) share: f64,
    pub(super) slowed: bool,
}

#[expect(clippy::cast_precision_loss, reason = "shares are shown with one digit behind the point")]
fn percent(part: u64, of: u64) -> String {
    format!("{:.1}%", part as f64 / of.max(1) as f64 * 100.0)
}

pub(super) fn render_profile(functions: &[FunctionTime], taken: &Taken, columns: Option<usize>) -> String {
    let title = format!(
        "at {} of {} looks in {:.1} s a script ran, {} of the time",
        taken.samples + taken.passed_over,
        taken.ticks,
        taken.milliseconds / 1000.0,
        percent(taken.samples + taken.passed_over, taken.ticks)
    );
    let mut text = styled(STRONG, &title) + "\n";
    if functions.is_empty() {
        let why =
            if taken.passed_over > 0 { "scripts ran, but not while that event was handled" } else { "no script ran" };
        let _ = writeln!(text, "{why}");
        return text + &remarks(taken);
    }
    let header = ["function", "own", "total", "own lines", ""].map(str::to_owned);
    let cells = |time: &FunctionTime| {
        let lines = time.lines.iter().take(MOST_LINES);
        let lines: Vec<_> =
            lines.map(|(line, samples)| format!("{line}: {}", percent(*samples, taken.samples))).collect();
        let text = time.function.defined.as_ref().and_then(|defined| defined.text.as_ref());
        vec![
            time.function.title(),
            percent(time.own, taken.samples),
            percent(time.total, taken.samples),
            lines.join("  "),
            text.map_or(String::new(), |text| cut_to(text, WIDEST)),
        ]
    };
    text += &lay_out(Some(header.into()), functions.iter().take(MOST_FUNCTIONS).map(cells), columns).text(QUIET);
    let rest = functions.len().saturating_sub(MOST_FUNCTIONS);
    if rest > 0 {
        let _ = writeln!(text, "{}", styled(QUIET, &format!("… and {rest} more functions ('--json' has them)")));
    }
    text + &remarks(taken)
}

fn remarks(taken: &Taken) -> String {
    let slowed = if taken.slowed { ", rarer than one a millisecond, so that they take no more" } else { "" };
    let cost = format!("a sample every {:.2} ms took {:.2}% of the time{slowed}", taken.every, taken.share * 100.0);
    let passed = (taken.passed_over > 0)
        .then(|| format!("left out, as something else was handled then: {} samples", taken.passed_over));
    [Some(cost), passed].into_iter().flatten().fold(String::new(), |text, line| text + &styled(QUIET, &line) + "\n")
}
