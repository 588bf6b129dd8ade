//! What was changed, and what became of a script whose text was.

use std::fmt::Write as _;

use adzeman_dap::extra::{ChangeInfo, RanSourceInfo, ReloadBody, ReloadedFunctionInfo, UndoneInfo};

use super::table::{cut_to, lay_out};
use super::{NAME, QUIET, STRONG, TROUBLE, styled};
use crate::report::FOR_NOW;

/// Widest value in the list of changes.
const WIDEST_CHANGED: usize = 40;
/// What became of the functions of a script whose text was changed.
pub(super) fn render_reload(reload: &ReloadBody, columns: Option<usize>) -> String {
    let count = |state: &str| reload.functions.iter().filter(|held| held.state == state).count();
    let counts: Vec<_> = ["changed", "new", "gone", "refused", "unchanged"]
        .into_iter()
        .filter(|state| count(state) > 0)
        .map(|state| format!("{} {state}", count(state)))
        .collect();
    let counts = counts.join(", ");
    let path = styled(STRONG, &reload.path);
    let mut text = match (reload.done, reload.functions.iter().all(|held| held.state == "unchanged")) {
        (true, true) => format!("{path} runs as it is written: {counts}\n"),
        (true, false) => format!("{path} runs as it is written now, in {}: {counts}\n", reload.contexts.join(", ")),
        (false, _) => {
            styled(TROUBLE, &format!("{} runs as before, since not all of its functions can be changed", reload.path))
                + "\n"
        }
    };
    let cells = |held: &ReloadedFunctionInfo| {
        let name = held.name.clone().unwrap_or_else(|| "(a function without a name)".to_owned());
        let line = held.line.map_or(String::new(), |line| line.to_string());
        vec![format!(" {name}"), line, held.state.clone(), remark_of(held)]
    };
    let shown = reload.functions.iter().filter(|held| held.state != "unchanged");
    text += &lay_out(None, shown.map(cells), columns).text(STRONG);
    if reload.others > 0 {
        let _ =
            writeln!(text, "{} of its functions are of a text that is not known, and stay as they are", reload.others);
    }
    match &reload.ran {
        None if reload.done && reload.top_level_changed => {
            text +=
                "what stands outside of all functions is written otherwise, too; it is not run again ('--run' does)\n";
        }
        None => {}
        Some(ran) => ran.iter().for_each(|ran| text += &render_ran_source(ran)),
    }
    if !reload.done {
        let _ = writeln!(text, "'reload {} --partly' changes those that can be", reload.path);
    }
    text
}

/// What came of running what stands outside of all functions.
fn render_ran_source(ran: &RanSourceInfo) -> String {
    match &ran.error {
        None => format!("what stands outside of all functions ran in {}\n", ran.context),
        Some(why) => {
            styled(TROUBLE, &format!("what stands outside of all functions failed in {}: {why}", ran.context)) + "\n"
        }
    }
}

/// What there is to say of a function besides what becomes of it.
fn remark_of(held: &ReloadedFunctionInfo) -> String {
    let running = match held.running {
        0 => None,
        1 if held.alive == 1 => Some("runs, and changes when it returns".to_owned()),
        running => Some(format!("{running} of {} run, and change when they return", held.alive)),
    };
    let stays = match (held.state.as_str(), held.alive) {
        ("gone", 1) => Some("the one that is alive stays as it is".to_owned()),
        ("gone", alive) if alive > 1 => Some(format!("the {alive} that are alive stay as they are")),
        ("new", _) => Some("is made when what defines it runs".to_owned()),
        ("changed", 0) => Some("none is alive".to_owned()),
        ("changed", alive) if alive > 1 && held.running == 0 => Some(format!("{alive} are alive")),
        _ => None,
    };
    let running = running.filter(|_| held.state == "changed");
    [held.why.clone(), stays, running].into_iter().flatten().collect::<Vec<_>>().join("; ")
}

/// What was changed, and how it stands.
pub(super) fn render_changes(changes: &[ChangeInfo], columns: Option<usize>) -> String {
    let header = ["", "what", "was", "set to", "in", "where", "now"].map(str::to_owned);
    let shown = |value: Option<&String>| value.map_or(String::new(), |value| cut_to(value, WIDEST_CHANGED));
    let cells = |change: &ChangeInfo| {
        let is_there = matches!(change.state.as_str(), "kept" | FOR_NOW);
        let usual = change.usual.as_ref().filter(|_| is_there).map(|usual| match change.from_usual {
            Some(0.0) => "as usual".to_owned(),
            Some(more) if more > 0.0 => format!("{more} above the usual {usual}"),
            Some(less) => format!("{} below the usual {usual}", -less),
            None => format!("usual is {usual}"),
        });
        let when = [change.at.clone(), format!("{:.1} s", change.seconds)].map(|part| part.trim().to_owned());
        let when: Vec<_> = when.into_iter().filter(|part| !part.is_empty()).collect();
        let standing: Vec<_> = [change.state.clone()].into_iter().chain(usual).collect();
        vec![
            change.id.to_string(),
            cut_to(&change.target, WIDEST_CHANGED),
            shown(change.before.as_ref()),
            shown(change.value.as_ref()),
            change.context.clone(),
            when.join(", "),
            standing.join("; "),
        ]
    };
    lay_out(Some(header.into()), changes.iter().map(cells), columns).text(QUIET)
}

pub(super) fn render_undone(undone: &[UndoneInfo], left: &[UndoneInfo]) -> String {
    if undone.is_empty() && left.is_empty() {
        return "nothing is set for now\n".to_owned();
    }
    let mut text = String::new();
    for UndoneInfo { target, value, .. } in undone {
        let value = value.as_deref().unwrap_or_default();
        let _ = writeln!(text, "{} is {value} again", styled(NAME, target));
    }
    for UndoneInfo { id, target, value, why } in left {
        let why = match (why.as_deref(), value) {
            (Some("changed"), Some(value)) => {
                format!(
                    "is {value} by now, which is not what was set; 'undo {id} anyway' gives back what was there before"
                )
            }
            (why, _) => format!("is left as it is: {}", why.unwrap_or_default()),
        };
        let _ = writeln!(text, "{}", styled(TROUBLE, &format!("{target} {why}")));
    }
    text
}
