//! What came of commands, as text for people.

use std::fmt::Write as _;

use super::changing::{render_changes, render_reload, render_undone};
use super::figures::{Shown as FiguresShown, render_figure, render_figures};
use super::fold::parts;
use super::heap::{Taken, render_census, render_growth, render_holders};
use super::plan::{Shown, render_plan};
use super::profile::{Taken as Sampled, render_profile};
use super::table::{cut_to, lay_out, styled_lines, without_tabs};
use super::trail::{render_counts, render_entry, render_trail};
use super::{HERE, NAME, QUIET, STRONG, TROUBLE, WIDEST, styled, values};
use crate::command::{TOPICS, VERBS};
use crate::project::Stale;
use crate::report::{BreakRow, EventRow, Extent, FrameRow, HostRow, Listing, Notice, Report, Row, Stop};
use anstyle::Style;

/// Widest function with its arguments in the call stack.
const WIDEST_CALL: usize = 96;
/// The same in a line that holds several.
const WIDEST_BESIDE_OTHERS: usize = 60;

/// What a command answered, tables fitted to as many columns, where that is known.
pub(super) fn render(report: &Report, columns: Option<usize>) -> String {
    match report {
        Report::Nothing => String::new(),
        Report::Hosts { hosts } => render_hosts(hosts, columns),
        Report::Ended { code } => format!("the host has ended with exit code {code}\n"),
        Report::Limits { asked_seconds, conditions_seconds, memory_bytes } => format!(
            "an evaluation may take {asked_seconds} s at a stop, {conditions_seconds} s beside the script, and {} MiB of memory\n",
            memory_bytes / (1024 * 1024)
        ),
        Report::Role { controls: true, .. } => "this client controls now\n".to_owned(),
        Report::Role { controls: false, controlled_by } => format!("{}\n", observing(controlled_by.as_deref())),
        Report::Attached { .. } => render_attached(report),
        Report::Stop { stop } => render_stop(stop, columns),
        Report::HandlerLeft { host, context, event, subject, returned } => {
            let event = event.as_deref().unwrap_or("its event");
            let of = subject.as_deref().map_or(String::new(), |subject| format!(" of {subject}"));
            let returned = returned.as_deref().map(render_returned).unwrap_or_default();
            format!(
                "{context} is done with {event}{of}; {host} has taken over and runs on ('go' waits for the next stop)\n{returned}"
            )
        }
        Report::Stack { frames, extent } => render_stack(frames, *extent, columns),
        Report::Changed { target, value, made, for_now } => {
            let made = made.as_ref().map_or(String::new(), |made| format!(", changed {made}"));
            let until = if *for_now { "; 'undo' gives back what was there, and so does leaving" } else { "" };
            format!("{} is now {value}{}\n", styled(NAME, target), styled(QUIET, &(made + until)))
        }
        Report::Running { context, event, listing, cut } => {
            let Some(listing) = listing else {
                return format!("{context} has run nothing for a while; 'trail' shows what the host does\n");
            };
            let event = event.as_ref().map_or(String::new(), |event| format!(" in {event}"));
            let cut = if *cut { ", as far as they were looked at" } else { "" };
            let title = format!("{context} ran these lines{event}{cut}; the last one is marked");
            format!("{}\n{}", styled(STRONG, &title), render_listing(listing, columns))
        }
        Report::Trail { entries, total, kept } => render_trail(entries, *total, kept, columns),
        Report::TrailEntry { entry, around } => render_entry(entry, around, columns),
        Report::TrailCounts { counts } => render_counts(counts, columns),
        Report::TrailWritten { file, events } => format!("{events} events are in {file}\n"),
        Report::TrailAgain { number } => {
            format!("event {number} is delivered once more between two of the host's own events\n")
        }
        Report::Census { number, context, census, groups, since, grown, since_running, milliseconds, parts } => {
            let taken =
                Taken { number: *number, context, groups: *groups, milliseconds: *milliseconds, parts: *parts };
            match (since, grown) {
                (Some(since), Some(grown)) => render_growth(&taken, census, (*since, *since_running), grown, columns),
                _ => render_census(&taken, census, columns),
            }
        }
        Report::Holders { expression, holders, description } => {
            render_holders(expression, holders, description, columns)
        }
        Report::HoldersWritten { file, paths } => format!("{paths} paths are drawn in {file}\n"),
        Report::Plan { things, overlaps, overlapping, outside, unit, unplaced, cut } => {
            let (overlapping, unit, cut) = (*overlapping, unit.as_deref(), *cut);
            render_plan(&Shown { things, overlaps, overlapping, outside, unit, unplaced, cut }, columns)
        }
        Report::Profile { functions, .. } => match sampled(report) {
            Some(taken) => render_profile(functions, &taken, columns),
            None => String::new(),
        },
        Report::ProfileWritten { file, samples, stacks } => {
            format!("{samples} samples, of {stacks} stacks, are in {file}\n")
        }
        Report::Figures { seconds, followed_seconds, events, counts_events, contexts, own, process } => {
            let (seconds, followed, counts_events) = (*seconds, *followed_seconds, *counts_events);
            render_figures(&FiguresShown { seconds, followed, events, counts_events, contexts, own, process }, columns)
        }
        Report::Figure { figure, points, jumps } => render_figure(figure, points, jumps, columns),
        Report::FiguresDrawn { file, figures } => format!("the courses of {figures} figures are drawn in {file}\n"),
        Report::PlanDrawn { file, things, overlapping, outside, times } => {
            let again = if *times > 1 { format!(", {times} times") } else { String::new() };
            format!("{things} things are drawn in {file}{again}; {overlapping} pairs overlap, {outside} lie outside\n")
        }
        Report::FollowsSaves { files: None } => "files are not reloaded any more when they are saved\n".to_owned(),
        Report::FollowsSaves { files: Some(0) } => {
            "no file here is one of the host's scripts, so there is nothing to reload; 'paths' in adzeman.toml says where those of \
             the host lie\n"
                .to_owned()
        }
        Report::FollowsSaves { files: Some(1) } => "the file of the script is reloaded whenever it is saved\n".to_owned(),
        Report::FollowsSaves { files: Some(files) } => {
            format!("the files of {files} scripts are reloaded whenever they are saved\n")
        }
        Report::Reloaded { reload } => render_reload(reload, columns),
        Report::Changes { changes } if changes.is_empty() => {
            "nothing was changed; 'let TARGET = EXPRESSION' changes a value, also 'for now'\n".to_owned()
        }
        Report::Changes { changes } => render_changes(changes, columns),
        Report::Undone { undone, left } => render_undone(undone, left),
        Report::Source { listing } => render_listing(listing, columns),
        Report::Sources { paths } => paths.iter().fold(String::new(), |text, path| text + path + "\n"),
        Report::Contexts { contexts, selected } => render_contexts(contexts, selected.as_deref()),
        Report::Events { events } => render_events(events),
        Report::Frame { frame, listing } => {
            let mut text = format!("frame {}: {}\n", frame.number, styled(STRONG, &frame.function));
            text.push_str(&listing.as_ref().map(|listing| render_listing(listing, columns)).unwrap_or_default());
            text
        }
        Report::StillUnderWay { context } => {
            format!("{context} is still under way; it may have to wait for the context that stopped\n")
        }
        Report::PauseAsked { context } => format!("{context} stops at the next line it runs\n"),
        Report::Left { host, gone: None } => format!("left; {host} runs on\n"),
        Report::Left { host, gone: Some(why) } => format!("left; {host} was gone already ({why})\n"),
        Report::Help { verb } => render_help(*verb),
        other => values::render_value_report(other, columns).unwrap_or_else(|| render_break_report(other, columns)),
    }
}

/// How a profile was taken.
fn sampled(report: &Report) -> Option<Sampled> {
    let Report::Profile { samples, ticks, passed_over, milliseconds, every_milliseconds, share, slowed, .. } = report
    else {
        return None;
    };
    Some(Sampled {
        samples: *samples,
        ticks: *ticks,
        passed_over: *passed_over,
        milliseconds: *milliseconds,
        every: *every_milliseconds,
        share: *share,
        slowed: *slowed,
    })
}

fn render_attached(report: &Report) -> String {
    let Report::Attached {
        by: _,
        controlled_by,
        host,
        process_id,
        other_version,
        contexts,
        events,
        objects,
        kept,
        project,
        armed,
    } = report
    else {
        return String::new();
    };
    let mut text = format!("{} (process {process_id}) is open to you\n", styled(STRONG, host));
    if let Some(version) = other_version {
        let own = env!("CARGO_PKG_VERSION");
        let _ = writeln!(
            text,
            "it is of version {version}, and this command of {own}: what one of them does not know is said as such"
        );
    }
    if let Some(name) = controlled_by {
        let _ = writeln!(text, "{}", styled(TROUBLE, &observing(Some(name))));
    }
    for (title, names) in [("contexts", contexts), ("events", events), ("objects", objects)] {
        let _ = writeln!(text, "  {title:<9} {}", names.join("  "));
    }
    if let Some(project) = project {
        let _ = writeln!(text, "{} set from {project}; 'breaks' lists them", breakpoints(*kept));
    }
    if !armed {
        text.push_str(DISARMED);
    }
    text
}

fn render_contexts(contexts: &[String], selected: Option<&str>) -> String {
    contexts.iter().fold(String::new(), |mut text, context| {
        let is_selected = context.split(" (").next() == Some(selected.unwrap_or_default());
        let mark = if is_selected { styled(HERE, "→") } else { " ".to_owned() };
        let _ = writeln!(text, "{mark} {context}");
        text
    })
}

fn render_events(events: &[EventRow]) -> String {
    events.iter().fold(String::new(), |mut text, event| {
        let _ = writeln!(text, "{}  {}", styled(STRONG, &event.name), event.doc);
        for field in &event.fields {
            let _ = writeln!(text, "    {field}");
        }
        text
    })
}

fn render_stale(stale: &Stale) -> String {
    let Stale { path, local, host_digest, local_digest } = stale;
    let of_host = if path == local { String::new() } else { format!(" as {path}") };
    format!(
        "{local} here is not what the host runs{of_host} ({local_digest} here, {host_digest} there); the host's text is shown"
    )
}

/// That this client may only look.
fn observing(controlled_by: Option<&str>) -> String {
    match controlled_by {
        Some(name) => format!("{name} controls; this client looks, and nothing else ('take over' takes control)"),
        None => "nobody controls; this client looks, and nothing else ('take over' takes control)".to_owned(),
    }
}

/// The hosts there are, each with its contexts and clients below.
fn render_hosts(hosts: &[HostRow], columns: Option<usize>) -> String {
    if hosts.is_empty() {
        return "no host can be attached to; start one with ADZEMAN=listen, or try 'adzeman demo'\n".to_owned();
    }
    let header = ["host", "process", "up", "address", "contexts", "attached"].map(str::to_owned);
    let cells = |host: &HostRow| {
        let up = host.up_seconds.map_or("does not answer".to_owned(), how_long);
        let clients: Vec<_> = host.clients.iter().map(|(name, role)| format!("{name} ({role}s)")).collect();
        let process = host.process_id.to_string();
        vec![host.name.clone(), process, up, host.address.clone(), states(&host.contexts), clients.join(", ")]
    };
    lay_out(Some(header.into()), hosts.iter().map(cells), columns).text(QUIET)
}

/// Contexts by what they are doing: `2 running, lock.upper stopped`.
fn states(contexts: &[(String, String)]) -> String {
    let running = contexts.iter().filter(|(_, state)| state == "running").count();
    let others = contexts.iter().filter(|(_, state)| state != "running").map(|(name, state)| format!("{name} {state}"));
    let running = (running > 0).then(|| format!("{running} running"));
    others.chain(running).collect::<Vec<_>>().join(", ")
}

fn how_long(seconds: f64) -> String {
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a time since some start")]
    let seconds = seconds as u64;
    match (seconds / 3600, seconds / 60 % 60, seconds % 60) {
        (0, 0, seconds) => format!("{seconds} s"),
        (0, minutes, seconds) => format!("{minutes} min {seconds} s"),
        (hours, minutes, _) => format!("{hours} h {minutes} min"),
    }
}

/// What commands about breakpoints answer.
fn render_break_report(report: &Report, columns: Option<usize>) -> String {
    match report {
        Report::Breakpoint { breakpoint } => format!("breakpoint {}\n", render_break(breakpoint)),
        Report::Breakpoints { breakpoints, .. } if breakpoints.is_empty() => {
            "no breakpoints are set; 'break at FILE:LINE', 'break in FUNCTION', 'break on EVENT'\n".to_owned()
        }
        Report::Breakpoints { breakpoints, armed } => {
            render_breaks(breakpoints, columns) + if *armed { "" } else { DISARMED }
        }
        Report::Armed { armed: true, count } => format!("{count} breakpoints are armed\n"),
        Report::Armed { armed: false, .. } => DISARMED.to_owned(),
        Report::Kept { count: 1, file } => format!("kept in {file}\n"),
        Report::Kept { count, file } => format!("{count} breakpoints kept in {file}\n"),
        Report::Library { paths, own } => {
            let rest = (!own.is_empty()).then(|| format!("all but {}", own.join(", ")));
            let passed: Vec<_> = rest.into_iter().chain(paths.iter().cloned()).collect();
            let passed = if passed.is_empty() { "nothing".to_owned() } else { passed.join(", ") };
            format!("'into' passes over {passed}\n")
        }
        Report::Ran { call, success, result, at, .. } => render_ran(call, *success, result, at.as_deref()),
        Report::Removed { count: 1 } => "removed\n".to_owned(),
        Report::Removed { count } => format!("{count} breakpoints removed\n"),
        _ => String::new(),
    }
}

pub(super) fn render_notice(notice: &Notice) -> String {
    match notice {
        Notice::Output { category, text, path, line, bell } => {
            let place = path.as_ref().zip(*line).map(|(path, line)| format!(" ({path}:{line})"));
            let (mark, style) = match category.as_str() {
                "stderr" | "important" => ("┆", TROUBLE),
                "console" => ("»", Style::new()),
                _ => ("┆", Style::new()),
            };
            let place = styled(QUIET, &place.unwrap_or_default());
            let bell = if *bell { "\x07" } else { "" };
            format!("{bell}{} {}{place}\n", styled(QUIET, mark), styled(style, text.trim_end()))
        }
        Notice::NotSet { what, file, why } => {
            format!("{}\n", styled(TROUBLE, &format!("'{what}' of {file} could not be set: {why}")))
        }
        Notice::Reloaded { path } => {
            let text = format!(
                "{path} runs in another text than was loaded: it was changed on the spot ('reload {path} --original' goes back)\n"
            );
            styled(TROUBLE, &text)
        }
        Notice::Stale(stale) => format!("{}\n", styled(TROUBLE, &render_stale(stale))),
        Notice::Following { host } => {
            format!("{}\n", styled(TROUBLE, &format!("{host} is gone; waiting until it is there again")))
        }
        Notice::AttachedAgain { host, process_id, breakpoints: count } => {
            let host = styled(STRONG, host);
            format!("attached again to {host} (process {process_id}); set again: {}\n", breakpoints(*count))
        }
        Notice::Role { controls: true, .. } => "this client controls now\n".to_owned(),
        Notice::Role { controls: false, controlled_by } => format!("{}\n", observing(controlled_by.as_deref())),
        Notice::Sample(sample) => values::render_sample(sample),
        Notice::Breakpoint { number, bound, note } => {
            let state = if *bound { "is bound now" } else { "is not bound any more" };
            format!("breakpoint {number} {state}{}\n", note.as_ref().map_or(String::new(), |note| format!(": {note}")))
        }
        Notice::StoppedElsewhere { context, description } => {
            let what = description.clone().unwrap_or_else(|| format!("{context} stopped"));
            format!("{what}; 'use context {context}' looks at it\n")
        }
        Notice::Dropped { messages } => {
            format!("{messages} messages of the host were dropped: too many came at once\n")
        }
    }
}

/// Said wherever breakpoints would be expected to work.
const DISARMED: &str = "all breakpoints are disarmed; 'breaks on' arms them\n";

fn render_break(row: &BreakRow) -> String {
    let state = match (row.bound, row.places.is_empty()) {
        (true, true) => String::new(),
        (true, false) => format!(" → {}", row.places.join(", ")),
        (false, _) => styled(TROUBLE, " waits"),
    };
    let note = row.note.as_ref().map_or(String::new(), |note| format!("\n  {note}"));
    format!("{} {}{state}{note}", row.number, row.what)
}

/// A line for each breakpoint, and under it what else there is to say of it.
fn render_breaks(rows: &[BreakRow], columns: Option<usize>) -> String {
    let header = ["", "hits", "breakpoint", "where"].map(str::to_owned);
    let cells = |row: &BreakRow| {
        let place = match (row.bound, row.places.is_empty()) {
            (false, _) => "waits".to_owned(),
            (true, true) => String::new(),
            (true, false) => row.places.join(", "),
        };
        vec![row.number.to_string(), row.hits.to_string(), row.what.clone(), place]
    };
    let laid = lay_out(Some(header.into()), rows.iter().map(cells), columns);
    let mut text = styled_lines(QUIET, &laid.header);
    for (shown, row) in laid.rows.iter().zip(rows) {
        text.push_str(shown);
        for remark in remarks(row) {
            let _ = writeln!(text, "           {}", styled(QUIET, &remark));
        }
    }
    text
}

/// What there is to say of a breakpoint besides where it is.
fn remarks(row: &BreakRow) -> Vec<String> {
    let mut remarks = Vec::new();
    if !row.enabled {
        remarks.push(format!("disabled; 'enable {}' lets it work", row.number));
    }
    if row.spent {
        remarks.push("was hit as often as it ever will be".to_owned());
    }
    remarks.extend(row.note.clone());
    remarks.extend(row.last.as_ref().map(|last| format!("last hit {last}")));
    if row.kept {
        remarks.push("kept in the project file".to_owned());
    }
    remarks
}

/// A number of breakpoints, in words.
fn breakpoints(count: usize) -> String {
    format!("{count} breakpoint{}", if count == 1 { "" } else { "s" })
}

fn render_returned(values: &[String]) -> String {
    match values {
        [] => "it returned nothing\n".to_owned(),
        values => format!("it returned {}\n", styled(STRONG, &cut(&values.join(", ")))),
    }
}

fn render_ran(call: &str, success: bool, result: &str, at: Option<&str>) -> String {
    let mut text = match (success, result) {
        (true, "") => format!("{call} is done\n"),
        (true, result) => format!("{call} returned {}\n", styled(STRONG, result)),
        (false, why) => format!("{}\n", styled(TROUBLE, &format!("{call} failed: {why}"))),
    };
    if let Some(at) = at {
        text += &styled(QUIET, &format!("{at}, as before\n"));
    }
    text
}

fn render_stop(stop: &Stop, columns: Option<usize>) -> String {
    let numbers: Vec<_> = stop.breakpoints.iter().map(ToString::to_string).collect();
    let by_breakpoint = match numbers.as_slice() {
        [] => "by a breakpoint of another client".to_owned(),
        [number] => format!("by breakpoint {number}"),
        [first @ .., last] => format!("by breakpoints {} and {last}", first.join(", ")),
    };
    let why = match stop.reason.as_str() {
        "here" => String::new(),
        "breakpoint" | "event" => format!(" {by_breakpoint}"),
        "exception" => format!(" at an error, {by_breakpoint}"),
        "data breakpoint" => format!(" after a change, {by_breakpoint}"),
        "time" => format!(" out of time, {by_breakpoint}"),
        "goto" => ", as it was to go on to here".to_owned(),
        "condition failed" => format!(" {by_breakpoint}, whose condition failed"),
        "step" => " after a step".to_owned(),
        "pause" => " as asked".to_owned(),
        "script" => " as the script asked".to_owned(),
        other => format!(" ({other})"),
    };
    let mut text = match &stop.at_boundary {
        Some(host) => format!("{} is held{why}", styled(HERE, host)),
        None => format!("{} stopped{why}", styled(HERE, &stop.context)),
    };
    if !stop.function.is_empty() && stop.at_boundary.is_none() {
        let _ = write!(text, ", in {}", styled(STRONG, &stop.function));
    }
    text.push('\n');
    if let Some(more) = &stop.text {
        let is_trouble = matches!(stop.reason.as_str(), "exception" | "condition failed");
        let _ = writeln!(text, "{}", styled(if is_trouble { TROUBLE } else { STRONG }, more));
    }
    if let Some(values) = &stop.returned {
        text.push_str(&render_returned(values));
    }
    text.push_str(&render_event(&stop.event));
    text.push_str(&stop.listing.as_ref().map(|listing| render_listing(listing, columns)).unwrap_or_default());
    if !stop.locals.is_empty() {
        text.push_str(&values::render_glance(&stop.locals, columns));
    }
    text.push_str(&values::render_watches(&stop.watches, columns));
    text
}

/// The event in a line: its name, its subject, and what it carries.
fn render_event(rows: &[Row]) -> String {
    let value = |name: &str| {
        let row = rows.iter().find(|row| row.name == name);
        row.map(|row| row.value.trim_matches('"').to_owned()).filter(|value| value != "null")
    };
    let Some(name) = value("name") else { return String::new() };
    let subject = value("subject").map_or(String::new(), |subject| format!(" of {subject}"));
    let carried = rows.iter().filter(|row| row.name != "name" && row.name != "subject");
    let carried: Vec<_> = carried
        .map(|row| format!("{} {}", styled(NAME, &row.name), values::with_before(row, WIDEST_BESIDE_OTHERS)))
        .collect();
    format!("during {}{subject}   {}\n", styled(STRONG, &name), carried.join("   "))
}

fn render_listing(listing: &Listing, columns: Option<usize>) -> String {
    let mut text = format!("{}\n", styled(QUIET, &listing.path));
    let last = listing.first + i64::try_from(listing.lines.len()).unwrap_or(0);
    let width = last.to_string().len();
    for (number, line) in (listing.first..).zip(&listing.lines) {
        let parts = parts(&without_tabs(line), columns.map(|columns| columns.saturating_sub(width + 5)));
        let shown = format!("{number:>width$}");
        // Lines that ran on the way are marked.
        let mark = if listing.ran.contains(&number) { "✓" } else { " " };
        let blank = " ".repeat(width);
        for (position, part) in parts.iter().enumerate() {
            let (mark, shown) = if position == 0 { (mark, &shown) } else { (" ", &blank) };
            let _ = if listing.current == Some(number) {
                let mark = if position == 0 { "→" } else { " " };
                writeln!(text, "{} {}", styled(HERE, &format!("{mark} {shown} ┃")), styled(STRONG, part))
            } else {
                writeln!(text, "{} {part}", styled(QUIET, &format!("{mark} {shown} │")))
            };
        }
    }
    text
}

fn render_stack(frames: &[FrameRow], extent: Extent, columns: Option<usize>) -> String {
    let cells = |frame: &FrameRow| {
        let mark = if frame.selected { "→" } else { "" };
        let place = match (frame.kind, &frame.path, frame.line) {
            ("boundary", ..) => String::new(),
            (_, Some(path), Some(line)) => format!("{path}:{line}"),
            ("native", ..) => "(native)".to_owned(),
            _ => String::new(),
        };
        let least = if frame.running_longer == Some(true) { "at least " } else { "" };
        let time = frame.running_milliseconds.map(|time| format!("for {least}{time:.2} ms"));
        let arguments =
            if frame.arguments.is_empty() { String::new() } else { format!("({})", frame.arguments.join(", ")) };
        vec![
            mark.to_owned(),
            frame.number.to_string(),
            cut_to(&format!("{}{arguments}", frame.function), WIDEST_CALL),
            place,
            time.unwrap_or_default(),
        ]
    };
    lay_out(None, frames.iter().map(cells), columns).text(STRONG) + &more(frames.len(), extent, "frames")
}

/// That there is more, and how to see it.
pub(super) fn more(shown: usize, extent: Extent, what: &str) -> String {
    let left = extent.total.saturating_sub(extent.start + shown);
    match (left, extent.at_least) {
        (0, false) => String::new(),
        (0, true) => format!("  … more {what} ('more' shows them)\n"),
        (left, true) => format!("  … at least {left} more {what} ('more' shows them)\n"),
        (left, false) => format!("  … {left} more {what} ('more' shows them)\n"),
    }
}

pub(super) fn cut(text: &str) -> String {
    cut_to(text, WIDEST)
}

/// What the marks before lines mean.
const MARKS: [(&str, &str); 6] = [
    ("→", "the line or frame being looked at"),
    ("✓", "ran on the way here"),
    ("»", "said by a breakpoint"),
    ("┆", "written by a script"),
    ("◇", "a sample of a monitor"),
    ("…", "there is more"),
];

/// The page of topics, or a command with its examples.
fn render_help(verb: Option<&str>) -> String {
    let Some(verb) = verb.and_then(|verb| VERBS.iter().find(|held| held.name == verb)) else { return render_topics() };
    let mut text = format!("{}\n{}\n\nfor example\n", styled(STRONG, verb.form), verb.what);
    for example in verb.examples {
        let _ = writeln!(text, "  {}", styled(NAME, example));
    }
    text
}

fn render_topics() -> String {
    let mut text = String::new();
    for topic in TOPICS {
        let verbs: Vec<_> = VERBS.iter().filter(|verb| verb.topic == topic).map(|verb| verb.name).collect();
        let _ = writeln!(text, "{:<18}{}", topic.title(), styled(STRONG, &verbs.join("  ")));
    }
    text += "\n'help break' says how a command is used, with examples. Commands may be shortened as long as they stay clear. An \
             expression is one of the script's language, with 'host' and 'event' visible in it.\n\n";
    for (mark, what) in MARKS {
        let _ = writeln!(text, "{mark}  {}", styled(QUIET, what));
    }
    text
}

/// All that is said of commands.
#[cfg(test)]
pub(super) fn everything_for_tests() -> String {
    VERBS.iter().map(|verb| render_help(Some(verb.name))).chain([render_help(None)]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::report::WatchRow;

    fn plain(report: &Report) -> String {
        anstream::adapter::strip_str(&render(report, None)).to_string()
    }

    fn row(name: &str, value: &str) -> Row {
        Row { name: name.to_owned(), value: value.to_owned(), type_name: "float".to_owned(), ..Row::default() }
    }

    #[test]
    fn a_stop_shows_why_where_and_the_locals() {
        let stop = Stop {
            context: "lock.upper".to_owned(),
            at_boundary: None,
            reason: "event".to_owned(),
            breakpoints: vec![2],
            text: None,
            returned: None,
            function: "update".to_owned(),
            event: vec![row("name", "\"frame.update\""), row("subject", "\"lock.upper\""), row("dt", "1.0")],
            listing: Some(Listing {
                path: "scripts/lock.lua".to_owned(),
                first: 9,
                lines: vec!["function update(dt)".to_owned(), "  local x = dt".to_owned()],
                current: Some(10),
                ran: vec![9, 10],
            }),
            locals: vec![
                Row { before: Some("0.5".to_owned()), ..row("dt", "1.0") },
                Row { shadowed: true, ..row("dt", "2.0") },
            ],
            watches: vec![
                WatchRow {
                    number: 1,
                    what: "dt * 2 in update".to_owned(),
                    value: Some("2.0".to_owned()),
                    ..WatchRow::default()
                },
                WatchRow {
                    number: 2,
                    what: "sum in fare".to_owned(),
                    note: Some("not in scope here: it is in fare".to_owned()),
                    out_of_scope: true,
                    ..WatchRow::default()
                },
            ],
        };
        insta::assert_snapshot!(plain(&Report::Stop { stop: Box::new(stop) }), @r"
        lock.upper stopped by breakpoint 2, in update
        during frame.update of lock.upper   dt 1.0
        scripts/lock.lua
        ✓  9 │ function update(dt)
        → 10 ┃   local x = dt
          dt = 1.0 (was 0.5)  (dt) = 2.0
          watch 1  dt * 2 in update  2.0
                2  sum in fare       not in scope here: it is in fare
        ");
    }

    #[test]
    fn help_is_a_page_and_has_examples_for_each_command() {
        let page = plain(&Report::Help { verb: None });
        assert!(page.lines().count() <= 24, "{page}");
        insta::assert_snapshot!(page);
        insta::assert_snapshot!(plain(&Report::Help { verb: Some("remove") }), @r"
        remove BREAKPOINT | all | watch N | watch all | monitor N | monitor all
        remove a breakpoint, a watch or a monitor, or all of them

        for example
          remove 2
          remove watch 1
        ");
    }

    #[test]
    fn long_lists_say_how_much_is_missing() {
        let extent = Extent { start: 0, total: 3, at_least: false };
        let report = Report::Scope { title: "Locals".to_owned(), rows: vec![row("a", "1.5")], extent };
        assert_eq!(plain(&report), "  a  1.5  float\n  … 2 more entries ('more' shows them)\n");
    }
}
