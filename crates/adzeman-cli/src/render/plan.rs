//! Where things lie, as a table.

use std::fmt::Write as _;

use adzeman::core::plan::{Outside, Overlap, Thing};

use super::table::lay_out;
use super::{QUIET, STRONG, TROUBLE, styled};

/// Things, and troubles, that are shown.
const MOST_THINGS: usize = 60;
const MOST_TROUBLES: usize = 20;

/// What a plan is of.
pub(super) struct Shown<'a> {
    pub(super) things: &'a [Thing],
    pub(super) overlaps: &'a [Overlap],
    pub(super) overlapping: usize,
    pub(super) outside: &'a [Outside],
    pub(super) unit: Option<&'a str>,
    pub(super) unplaced: &'a [String],
    pub(super) cut: bool,
}

/// A number with two digits behind the point, or as many as it needs.
pub(super) fn short(value: f64) -> String {
    let text = format!("{value:.2}");
    let short = text.trim_end_matches('0').trim_end_matches('.');
    if short == "-0" { "0".to_owned() } else { short.to_owned() }
}

pub(super) fn render_plan(plan: &Shown<'_>, columns: Option<usize>) -> String {
    if plan.things.is_empty() && plan.unplaced.is_empty() {
        return "nothing lies anywhere at this moment\n".to_owned();
    }
    let in_unit = |title: &str| plan.unit.map_or(title.to_owned(), |unit| format!("{title}, {unit}"));
    let header = [
        "".to_owned(),
        "is".to_owned(),
        in_unit("x"),
        in_unit("y"),
        in_unit("long"),
        in_unit("wide"),
        "points".to_owned(),
        String::new(),
    ];
    let cells = |thing: &Thing| {
        let name = if thing.name == thing.path { String::new() } else { thing.name.clone() };
        vec![
            thing.path.clone(),
            name,
            short(thing.x),
            short(thing.y),
            short(thing.length),
            short(thing.width),
            thing.degrees.map_or(String::new(), |degrees| format!("{}°", short(degrees))),
            thing.note.clone().unwrap_or_default(),
        ]
    };
    let mut text = lay_out(Some(header.into()), plan.things.iter().take(MOST_THINGS).map(cells), columns).text(QUIET);
    if plan.things.len() > MOST_THINGS || plan.cut {
        let more = match plan.things.len().saturating_sub(MOST_THINGS) {
            0 => "there are more, too many to be read".to_owned(),
            rest => format!("and {}{rest} more ('--json' has them)", if plan.cut { "at least " } else { "" }),
        };
        let _ = writeln!(text, "{}", styled(QUIET, &format!("… {more}")));
    }
    text + &troubles(plan)
}

/// What overlaps or lies outside.
fn troubles(plan: &Shown<'_>) -> String {
    let unit = plan.unit.map_or(String::new(), |unit| format!(" {unit}"));
    let called = |path: &str| {
        let found = plan.things.iter().find(|thing| thing.path == path && thing.name != path);
        found.map_or(path.to_owned(), |thing| format!("{} ({path})", thing.name))
    };
    let mut text = String::new();
    for pair in plan.overlaps.iter().take(MOST_TROUBLES) {
        let (first, second) = (called(&pair.first), called(&pair.second));
        let words = format!("{first} and {second} overlap by {}{unit}", short(pair.by));
        text += &(styled(TROUBLE, &words) + "\n");
    }
    if plan.overlapping > MOST_TROUBLES {
        let _ = writeln!(text, "… and {} more pairs", plan.overlapping - MOST_TROUBLES);
    }
    for thing in plan.outside.iter().take(MOST_TROUBLES) {
        let words = format!("{} reaches out of where it should lie, by {}{unit}", called(&thing.path), short(thing.by));
        text += &(styled(TROUBLE, &words) + "\n");
    }
    if plan.outside.len() > MOST_TROUBLES {
        let _ = writeln!(text, "… and {} more lie outside", plan.outside.len() - MOST_TROUBLES);
    }
    for why in plan.unplaced {
        text += &(styled(TROUBLE, why) + "\n");
    }
    if text.is_empty() { styled(STRONG, "nothing overlaps, and nothing lies outside") + "\n" } else { text }
}
