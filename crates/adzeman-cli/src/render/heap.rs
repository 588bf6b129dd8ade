//! How many values there are, and what holds one, as tables.

use std::fmt::Write as _;

use adzeman::core::heap::{Census, CensusLine, Growth, Holder, Holders};

use super::table::{cut_to, lay_out};
use super::{NAME, QUIET, STRONG, styled};

/// Groups shown.
const MOST_GROUPS: usize = 25;
/// Widest text of a line of a script, and of a value.
const WIDEST: usize = 60;

/// Bytes as people read them.
pub(super) fn size(bytes: u64) -> String {
    #[expect(clippy::cast_precision_loss, reason = "one digit behind the point is shown")]
    let scaled = |unit: u64| bytes as f64 / unit as f64;
    match bytes {
        0..1024 => format!("{bytes} B"),
        1024..1_048_576 => format!("{:.1} KiB", scaled(1 << 10)),
        1_048_576..1_073_741_824 => format!("{:.1} MiB", scaled(1 << 20)),
        _ => format!("{:.1} GiB", scaled(1 << 30)),
    }
}

fn signed_size(bytes: i64) -> String {
    let sign = if bytes < 0 { "-" } else { "+" };
    format!("{sign}{}", size(bytes.unsigned_abs()))
}

/// What a census was, for [`render_census`].
pub(super) struct Taken<'a> {
    pub(super) number: u64,
    pub(super) context: &'a str,
    pub(super) groups: usize,
    pub(super) milliseconds: f64,
    pub(super) parts: u64,
}

fn bytes_of(line: &CensusLine) -> String {
    format!("{}{}", if line.measured { "" } else { "about " }, size(line.bytes))
}

/// The first line of what they are defined by, where that is known.
fn defined(line: &CensusLine) -> String {
    line.defined.as_ref().and_then(|at| at.text.as_ref()).map_or(String::new(), |text| cut_to(text, WIDEST))
}

pub(super) fn render_census(taken: &Taken<'_>, census: &Census, columns: Option<usize>) -> String {
    let mut text = title(taken, census);
    let header = ["kind", "what", "values", "bytes", ""].map(str::to_owned);
    let cells = |line: &CensusLine| {
        vec![line.kind.clone(), line.group.clone(), line.count.to_string(), bytes_of(line), defined(line)]
    };
    let shown = census.lines.iter().take(MOST_GROUPS);
    text += &lay_out(Some(header.into()), shown.map(cells), columns).text(QUIET);
    let rest = taken.groups.saturating_sub(MOST_GROUPS);
    if rest > 0 {
        let _ = writeln!(
            text,
            "{}",
            styled(QUIET, &format!("… and {rest} more groups, which take less ('--json' has them)"))
        );
    }
    text + &remarks(taken, census)
}

fn title(taken: &Taken<'_>, census: &Census) -> String {
    let title =
        format!("census {} of {}: {} values, {}", taken.number, taken.context, census.values, size(census.bytes));
    styled(STRONG, &title) + "\n"
}

fn remarks(taken: &Taken<'_>, census: &Census) -> String {
    let engine = format!(
        "the engine has {} in use: code, stacks and what is not collected yet are in that, too",
        size(census.engine_bytes)
    );
    let how = if census.running {
        format!(
            "counted in {} over {:.0} ms while it ran: what came and went meanwhile may be in it or not, and so is what is \
             not collected yet; at a stop it is exact",
            if taken.parts == 1 { "one part".to_owned() } else { format!("{} parts", taken.parts) },
            taken.milliseconds
        )
    } else {
        format!("counted in {:.0} ms at the stop; that took {} besides", taken.milliseconds, size(census.own_bytes))
    };
    let next = format!("'census since {}' compares with this one later", taken.number);
    [engine, how, next].iter().fold(String::new(), |text, line| text + &styled(QUIET, line) + "\n")
}

pub(super) fn render_growth(
    taken: &Taken<'_>,
    census: &Census,
    (since, since_running): (u64, Option<bool>),
    grown: &[Growth],
    columns: Option<usize>,
) -> String {
    let mut text = title(taken, census);
    if grown.is_empty() {
        let _ = writeln!(text, "nothing is more or less than in census {since}");
        return text + &remarks(taken, census);
    }
    let header = ["kind", "what", "more", "bytes", "now", ""].map(str::to_owned);
    let cells = |growth: &Growth| {
        vec![
            growth.now.kind.clone(),
            growth.now.group.clone(),
            format!("{:+}", growth.more),
            signed_size(growth.more_bytes),
            growth.now.count.to_string(),
            defined(&growth.now),
        ]
    };
    text += &lay_out(Some(header.into()), grown.iter().take(MOST_GROUPS).map(cells), columns).text(QUIET);
    let rest = grown.len().saturating_sub(MOST_GROUPS);
    if rest > 0 {
        let _ = writeln!(text, "{}", styled(QUIET, &format!("… and {rest} more groups ('--json' has them)")));
    }
    if since_running.is_some_and(|running| running != census.running) {
        let odd = format!(
            "one of the two was counted while it ran, with what was not collected yet: compare two of a kind to be sure (census {since}, \
             census {})",
            taken.number
        );
        text += &(styled(QUIET, &odd) + "\n");
    }
    text + &remarks(taken, census)
}

pub(super) fn render_holders(expression: &str, holders: &Holders, description: &str, columns: Option<usize>) -> String {
    let mut text = format!("{} = {}\n", styled(NAME, expression), cut_to(&holders.value, WIDEST));
    text += &(styled(STRONG, description) + "\n");
    let cells = |holder: &Holder| {
        let weak = if holder.weak { "keeps nothing alive" } else { "" };
        let made = holder.made().map_or(String::new(), |made| {
            let said = made.text.as_deref().map_or(String::new(), |text| format!(": {}", cut_to(text, WIDEST)));
            format!("made at {made}{said}")
        });
        let of = holder.remark.clone().unwrap_or_default();
        let remarks: Vec<_> = [weak.to_owned(), of, made].into_iter().filter(|part| !part.is_empty()).collect();
        vec![holder.path(), remarks.join("; ")]
    };
    text += &lay_out(None, holders.holders.iter().map(cells), columns).text(QUIET);
    if holders.total > holders.holders.len() {
        let rest = holders.total - holders.holders.len();
        let _ = writeln!(text, "{}", styled(QUIET, &format!("… and {rest} more")));
    }
    let looked = format!("{} values were looked at, which took {} besides", holders.looked_at, size(holders.own_bytes));
    text + &styled(QUIET, &looked) + "\n"
}
