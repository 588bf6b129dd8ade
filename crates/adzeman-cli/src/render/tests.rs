//! All that the prompt can say, as it looks on terminals of 60, 80 and 160 columns.

use std::io;

use adzeman::core::trail::{Entry, Outcome, Said, Speaker, counts};

use adzeman_dap::ErrorCode;
use adzeman_dap::extra::{
    ChangeInfo, RanSourceInfo, ReloadBody, ReloadedFunctionInfo, ShapeLine, TableRow, UndoneInfo,
};
use textwrap::core::display_width;

use super::fold::folded;
use super::reports::{everything_for_tests, render, render_notice};
use super::samples::of_numbers;
use crate::error::CliError;
use crate::project::Stale;
use crate::report::{
    AboutRow, BreakRow, EventRow, Extent, FoundLine, FrameRow, HostRow, Kept, Listing, Notice, Report, Row, SampleRow,
    Stop, TreeRow, WatchRow,
};

fn text(text: &str) -> String {
    text.to_owned()
}

fn texts<const N: usize>(texts: [&str; N]) -> Vec<String> {
    texts.map(str::to_owned).to_vec()
}

fn row(name: &str, value: &str, type_name: &str) -> Row {
    Row { name: text(name), value: text(value), type_name: text(type_name), ..Row::default() }
}

/// Rows of every kind: changed, hidden, computed, with what the host says of them, with a value that is cut, of wide characters.
fn rows() -> Vec<Row> {
    let said = AboutRow {
        doc: Some(text("how far the gate is open; the keeper is told when it moves")),
        unit: Some(text("m")),
        belongs_to: texts(["lock.upper", "context locks"]),
        read_only: true,
    };
    vec![
        Row { before: Some(text("1.25")), ..row("level", "2.5", "float") },
        Row { shadowed: true, ..row("level", "0.0", "float") },
        Row { computed_by: Some(text("winch.half_load")), ..row("half_load", "", "computed") },
        Row { about: said, ..row("gate", "0.35", "float") },
        row("水門", "\"閘室の水位を調整する\"", "string"),
        row("boats", &format!("{{{}}}", "{name = \"Heron\", length = 24}, ".repeat(6)), "table"),
    ]
}

fn extent(total: usize) -> Extent {
    Extent { total, ..Extent::default() }
}

fn listing() -> Listing {
    Listing {
        path: text("scripts/lock.lua"),
        first: 98,
        lines: texts([
            "\tlocal side = other(lock.side)",
            "\tif\tdifference > 0.25 and lock.gates[side].is_closed and not lock.gates[other(side)].is_moving then",
            "  return level -- 水位",
        ]),
        current: Some(99),
        ran: vec![98, 99],
    }
}

fn watches() -> Vec<WatchRow> {
    let watch = |number: usize, what: &str| WatchRow { number, what: text(what), ..WatchRow::default() };
    vec![
        WatchRow { value: Some(text("0.75")), before: Some(text("0.5")), ..watch(1, "difference in level_with") },
        WatchRow { value: Some("12".repeat(40)), ..watch(2, "lock.name .. lock.side") },
        WatchRow { note: Some(text("not in scope here: it is in fare")), out_of_scope: true, ..watch(3, "rate") },
        WatchRow { note: Some(text("attempt to index a nil value (field 'pump')")), ..watch(4, "lock.pump.on") },
    ]
}

fn stop() -> Box<Stop> {
    Box::new(Stop {
        context: text("lock.upper"),
        at_boundary: None,
        reason: text("exception"),
        breakpoints: vec![2, 11],
        text: Some(text("scripts/lock.lua:99: attempt to compare number with nil (nobody in the script catches it)")),
        returned: Some(texts(["2.5", "\"upper\""])),
        function: text("level_with"),
        event: vec![
            row("name", "\"frame.update\"", "string"),
            row("subject", "\"lock.upper\"", "string"),
            Row { before: Some(text("0.5")), ..row("dt", "1.0", "float") },
        ],
        listing: Some(listing()),
        locals: rows(),
        watches: watches(),
    })
}

fn breaks() -> Vec<BreakRow> {
    let row = |number: usize, what: &str| BreakRow {
        number,
        what: text(what),
        bound: true,
        places: texts(["scripts/lock.lua:33"]),
        hits: 1204,
        note: None,
        last: None,
        enabled: true,
        spent: false,
        kept: false,
    };
    vec![
        BreakRow {
            note: Some(text("line 32 has no code to stop at; moved to line 33")),
            last: Some(text("at scripts/lock.lua:33, during frame.update of lock.upper")),
            kept: true,
            ..row(
                1,
                "at lock.lua:32 when difference > 0.25 and lock.side == \"upper\" after 3 say \"{lock.name}: {difference}\"",
            )
        },
        BreakRow { bound: false, places: Vec::new(), hits: 0, enabled: false, ..row(2, "in toll_of_a_boat") },
        BreakRow { places: Vec::new(), spent: true, ..row(13, "on record.before_save for \"passage 118\" once") },
    ]
}

fn frames() -> Vec<FrameRow> {
    let frame = |number: usize, function: &str, kind: &'static str| FrameRow {
        number,
        function: text(function),
        path: (kind == "script").then(|| text("scripts/lock.lua")),
        line: Some(33),
        kind,
        selected: number == 0,
        arguments: texts(["lock = {name = \"upper\", level = 2.5}", "side = \"upper\""]),
        running_milliseconds: Some(1.25),
        running_longer: None,
    };
    vec![
        frame(0, "level_with", "script"),
        FrameRow { arguments: Vec::new(), running_milliseconds: None, ..frame(1, "pcall", "native") },
        FrameRow {
            arguments: Vec::new(),
            running_longer: Some(true),
            ..frame(2, "frame.update of lock.upper, raised by lockside", "boundary")
        },
    ]
}

fn reload(done: bool) -> ReloadBody {
    let function = |name: Option<&str>, line: i64, state: &str, alive: usize, running: usize| ReloadedFunctionInfo {
        name: name.map(str::to_owned),
        line: Some(line),
        state: text(state),
        why: (state == "refused").then(|| text("it uses 'rate' of what is around it, which it did not before")),
        alive,
        running,
    };
    ReloadBody {
        path: text("scripts/ledger.lua"),
        done,
        contexts: texts(["ledger"]),
        functions: vec![
            function(Some("rate"), 12, "changed", 1, 1),
            function(Some("fare"), 21, if done { "changed" } else { "refused" }, 1, 0),
            function(None, 24, "changed", 4, 1),
            function(Some("toll_of"), 30, "new", 0, 0),
            function(Some("before_save"), 36, "unchanged", 1, 0),
            function(Some("after_save"), 41, "gone", 1, 0),
        ],
        others: usize::from(!done),
        top_level_changed: true,
        ran: None,
    }
}

fn ran() -> ReloadBody {
    let in_context =
        |context: &str, error: Option<&str>| RanSourceInfo { context: text(context), error: error.map(str::to_owned) };
    let why = "scripts/lock.lua:4: attempt to index a nil value (global 'flight')";
    let ran = Some(vec![in_context("lock.upper", None), in_context("lock.lower", Some(why))]);
    ReloadBody { ran, functions: Vec::new(), ..reload(true) }
}

/// Events of every outcome, one inside another.
fn trail() -> Vec<Entry> {
    let entry = |number: u64, event: &str, outcome: Outcome| Entry {
        number,
        seconds: 61.52,
        event: text(event),
        subject: Some(text("passage 118")),
        within: (number == 812).then_some(811),
        contexts: texts(["ledger"]),
        milliseconds: 6.25,
        budget_milliseconds: None,
        outcome,
        why: None,
        runs: 1,
        payload: serde_json::json!({"record": {"boat": "Héron", "length": 24.5}, "dt": 0.5}),
        payload_left_out: None,
        said: Vec::new(),
    };
    let said = |by, of: Option<&str>, what: &str| Said { by, of: of.map(str::to_owned), text: text(what) };
    vec![
        Entry {
            contexts: Vec::new(),
            budget_milliseconds: Some(5.0),
            runs: 2,
            payload: serde_json::Value::Null,
            payload_left_out: Some(text("copying it would have taken more than the trail's share of the time")),
            ..entry(811, "frame.update", Outcome::Done)
        },
        Entry {
            why: Some(text(
                "scripts/ledger.lua:25: no toll is known for a length of 24.5 metres, which no boat should have\nstack traceback:",
            )),
            said: vec![
                said(Speaker::Breakpoint, None, "fare 24.5"),
                said(Speaker::Monitor, Some("host.weather.rain"), "2.5"),
            ],
            ..entry(812, "record.before_save", Outcome::Failed)
        },
        Entry { why: Some(text("it is closed")), ..entry(813, "record.before_save", Outcome::Refused) },
    ]
}

fn of_trails() -> Vec<Report> {
    let (entries, kept) = (trail(), Kept { events: 3, dropped: 12 });
    let none = Kept { events: 0, dropped: 0 };
    vec![
        Report::Trail { entries: Vec::new(), total: 0, kept: none },
        Report::Trail { entries: Vec::new(), total: 0, kept: kept.clone() },
        Report::TrailCounts { counts: counts(&entries) },
        Report::TrailCounts { counts: Vec::new() },
        Report::TrailEntry { entry: Box::new(entries[0].clone()), around: entries.clone() },
        Report::TrailEntry { entry: Box::new(entries[1].clone()), around: entries.clone() },
        Report::TrailEntry { entry: Box::new(entries[2].clone()), around: entries.clone() },
        Report::Trail { entries, total: 3, kept },
        Report::Running { context: text("lock.upper"), event: None, listing: None, cut: false },
        Report::Running {
            context: text("lock.upper"),
            event: Some(text("frame.update of lock.upper")),
            listing: Some(listing()),
            cut: true,
        },
        Report::TrailWritten { file: text("day.svg"), events: 2871 },
        Report::TrailAgain { number: 812 },
    ]
}

fn changes() -> Vec<ChangeInfo> {
    let change = |id: u64, target: &str, state: &str| ChangeInfo {
        id,
        context: text("lock.upper"),
        target: text(target),
        before: Some(text("2.5")),
        value: Some(text("12.0")),
        at: text("at scripts/lock.lua:33"),
        seconds: 61.52,
        state: text(state),
        ..ChangeInfo::default()
    };
    vec![
        ChangeInfo { usual: Some(text("2.0")), from_usual: Some(10.0), ..change(1, "host.weather.rain", "for now") },
        ChangeInfo { at: text("before frame.update of lock.upper"), ..change(2, "margin", "kept") },
        ChangeInfo { before: None, value: None, at: String::new(), ..change(13, "lock.level = 0", "ran") },
    ]
}

fn undone(id: u64, target: &str, value: &str, why: Option<&str>) -> UndoneInfo {
    UndoneInfo { id, target: text(target), value: Some(text(value)), why: why.map(str::to_owned) }
}

fn sample() -> SampleRow {
    SampleRow {
        number: 1,
        what: text("host.weather.rain every 2s"),
        success: true,
        value: text("12.5"),
        type_name: Some(text("float")),
        seconds: 61.5,
        during: Some(text("frame.update of lock.upper")),
        count: 30,
        cost_microseconds: 12.0,
        share: 0.0004,
        slowed: true,
    }
}

fn grid() -> Report {
    let columns = texts(["name", "length", "draught", "cargo", "home", "toll", "passages", "arrived", "remarks"]);
    let cells =
        ["\"Heron\"", "24", "1.2", "\"timber\"", "\"Upper Basin\"", "12.5", "118", "61.5", "\"pays late, と言う\""];
    let row = |number: usize| TableRow {
        name: format!("[{number}]"),
        cells: cells.iter().enumerate().map(|(at, cell)| (at != number).then(|| text(cell))).collect(),
    };
    Report::Table { expression: text("boats"), columns, rows: (1..4).map(row).collect(), extent: extent(40) }
}

fn attached() -> Report {
    Report::Attached {
        by: text("name"),
        controlled_by: Some(text("the keeper's editor")),
        host: text("lockside"),
        process_id: 4211,
        other_version: Some(text("0.9.0")),
        contexts: texts(["weather", "lock.upper", "lock.middle", "lock.lower", "ledger"]),
        events: texts(["frame.update", "boat.arrived", "record.before_save", "record.after_save", "weather.changed"]),
        objects: texts(["weather", "locks", "boats", "settings"]),
        kept: 2,
        project: Some(text("adzeman.toml")),
        armed: false,
    }
}

/// One report of each kind, and some more where one is not enough.
fn reports() -> Vec<Report> {
    [
        of_sessions(),
        of_breakpoints(),
        of_stops(),
        of_values(),
        of_watches(),
        of_changes(),
        of_sources(),
        of_trails(),
        of_numbers(),
    ]
    .concat()
}

fn of_sessions() -> Vec<Report> {
    vec![
        Report::Nothing,
        Report::Hosts { hosts: Vec::new() },
        Report::Hosts {
            hosts: vec![HostRow {
                name: text("lockside"),
                process_id: 4211,
                address: text("127.0.0.1:7642"),
                up_seconds: Some(3725.0),
                contexts: vec![
                    (text("weather"), text("running")),
                    (text("lock.upper"), text("stopped")),
                    (text("ledger"), text("running")),
                ],
                clients: vec![(text("the keeper's editor"), text("control")), (text("adzeman"), text("observe"))],
            }],
        },
        Report::Ended { code: 3 },
        Report::Role { controls: true, controlled_by: None },
        Report::Role { controls: false, controlled_by: Some(text("the keeper's editor")) },
        Report::Limits { asked_seconds: 5.0, conditions_seconds: 0.2, memory_bytes: 256 << 20 },
        attached(),
    ]
}

fn of_breakpoints() -> Vec<Report> {
    let breakpoint = || breaks().remove(0);
    vec![
        Report::Breakpoint { breakpoint: breakpoint() },
        Report::Breakpoints { breakpoints: breaks(), armed: false },
        Report::Breakpoints { breakpoints: Vec::new(), armed: true },
        Report::Armed { armed: true, count: 3 },
        Report::Kept { count: 2, file: text("adzeman.toml") },
        Report::Library { paths: texts(["vendor/", "json.lua"]), own: texts(["scripts/"]) },
    ]
}

fn of_stops() -> Vec<Report> {
    vec![
        Report::Ran {
            call: text("fare(24, 90)"),
            success: true,
            result: text("12.5"),
            type_name: None,
            at: Some(text("lock.upper is at scripts/lock.lua:99")),
        },
        Report::Ran {
            call: text("fare()"),
            success: false,
            result: text("ledger.lua:22: attempt to perform arithmetic on a nil value (local 'length')"),
            type_name: None,
            at: None,
        },
        Report::StillUnderWay { context: text("lock.upper") },
        Report::Removed { count: 2 },
        Report::Stop { stop: stop() },
        Report::HandlerLeft {
            host: text("lockside"),
            context: text("lock.upper"),
            event: Some(text("frame.update")),
            subject: Some(text("lock.upper")),
            returned: Some(texts(["true"])),
        },
        Report::Stack { frames: frames(), extent: extent(12) },
    ]
}

fn of_values() -> Vec<Report> {
    let title = || text("Locals");
    vec![
        Report::Scope { title: title(), rows: rows(), extent: Extent { total: 2500, at_least: true, start: 0 } },
        Report::Scope { title: title(), rows: Vec::new(), extent: extent(0) },
        Report::Value {
            expression: text("lock"),
            value: text("{name = \"upper\"}"),
            type_name: text("table"),
            before: Some(text("{name = \"lower\"}")),
            inside: rows(),
            extent: extent(6),
        },
        grid(),
        Report::Shape {
            expression: text("boats"),
            rows: vec![
                ShapeLine { depth: 0, name: text("boats"), types: text("table, 40 elements"), ..ShapeLine::default() },
                ShapeLine {
                    depth: 1,
                    name: text("length"),
                    types: text("integer or float"),
                    remark: Some(text("in 38 of 40, and missing in the two that were entered by hand")),
                },
            ],
        },
        Report::Text {
            expression: text("log"),
            text: text("first line\nsecond line\n"),
            bytes_in_all: Some(2_000_000),
        },
        Report::Tree {
            rows: rows()
                .into_iter()
                .enumerate()
                .map(|(at, row)| TreeRow { depth: at.min(2), is_leaf: at > 1, row })
                .collect(),
        },
    ]
}

fn of_watches() -> Vec<Report> {
    vec![
        Report::Watches { watches: watches() },
        Report::Watches { watches: Vec::new() },
        Report::Watched { watch: watches().remove(1) },
        Report::WatchesRemoved { count: 3 },
        Report::WatchesKept { count: 2, file: text("adzeman.toml") },
        Report::Monitored { samples: vec![sample()], stop: None },
        Report::MonitorsRemoved { count: 1 },
        Report::Found {
            text: text("toll"),
            paths: texts(["scripts/toll.lua"]),
            lines: vec![FoundLine {
                path: text("scripts/ledger.lua"),
                line: 23,
                text: text("local toll = rate(length)"),
            }],
            more: true,
        },
    ]
}

fn of_changes() -> Vec<Report> {
    vec![
        Report::Changed {
            target: text("lock.level"),
            value: text("2.5"),
            made: Some(text("before frame.update, 61.500 s on the host's clock")),
            for_now: true,
        },
        Report::FollowsSaves { files: None },
        Report::FollowsSaves { files: Some(0) },
        Report::FollowsSaves { files: Some(1) },
        Report::FollowsSaves { files: Some(3) },
        Report::Reloaded { reload: reload(true) },
        Report::Reloaded { reload: ran() },
        Report::Reloaded { reload: reload(false) },
        Report::Changes { changes: changes() },
        Report::Changes { changes: Vec::new() },
        Report::Undone {
            undone: vec![undone(2, "host.weather.rain", "2.5", None)],
            left: vec![
                undone(1, "limit", "8", Some("changed")),
                undone(4, "here", "", Some("it is a local variable of a function that has gone on")),
            ],
        },
    ]
}

fn of_sources() -> Vec<Report> {
    vec![
        Report::Source { listing: listing() },
        Report::Sources { paths: texts(["scripts/lock.lua", "scripts/ledger.lua"]) },
        Report::Contexts {
            contexts: texts(["weather (running)", "lock.upper (stopped)"]),
            selected: Some(text("lock.upper")),
        },
        Report::Events {
            events: vec![EventRow {
                name: text("record.before_save"),
                doc: text("a passage is about to be written into the books, and can be refused"),
                fields: texts(["number: its number in the books", "toll: what is to be paid, in marks"]),
            }],
        },
        Report::Frame { frame: frames().remove(0), listing: Some(listing()) },
        Report::PauseAsked { context: text("lock.upper") },
        Report::Left { host: text("lockside"), gone: None },
        Report::Left { host: text("lockside"), gone: Some(text("it has ended")) },
        Report::Help { verb: Some("break") },
    ]
}

fn notices() -> Vec<Notice> {
    let output = |category: &str, said: &str| Notice::Output {
        category: text(category),
        text: text(said),
        path: Some(text("scripts/lock.lua")),
        line: Some(33),
        bell: false,
    };
    vec![
        output("stdout", "the upper gate is closed, and the level in the chamber is that of the upper reach\n"),
        output(
            "stderr",
            "frame.update of lock.upper failed: scripts/lock.lua:99: attempt to compare number with nil\n",
        ),
        output("console", "upper: 0.75\n"),
        Notice::NotSet {
            what: text("break at old.lua:3 wenn x"),
            file: text("adzeman.toml"),
            why: text("'wenn' is no qualifier"),
        },
        Notice::Stale(Stale {
            path: text("scripts/lock.lua"),
            local: text("src/lock.lua"),
            host_digest: text("0123456789abcdef"),
            local_digest: text("fedcba9876543210"),
        }),
        Notice::Reloaded { path: text("scripts/ledger.lua") },
        Notice::Following { host: text("lockside") },
        Notice::AttachedAgain { host: text("lockside"), process_id: 4212, breakpoints: 3 },
        Notice::Role { controls: false, controlled_by: None },
        Notice::Sample(sample()),
        Notice::Breakpoint { number: 2, bound: true, note: Some(text("moved to line 34")) },
        Notice::StoppedElsewhere { context: text("ledger"), description: None },
        Notice::Dropped { messages: 37 },
    ]
}

fn errors() -> Vec<CliError> {
    let address = || text("127.0.0.1:7642");
    let system = || io::Error::other("permission denied");
    vec![
        CliError::NoHost { address: address(), why: text("connection refused") },
        CliError::NoHosts,
        CliError::NoSuchHost { target: text("lockside"), known: text("there is mill (process 12)") },
        CliError::SeveralHosts(text("lockside (process 12), lockside (process 14)")),
        CliError::NoFolder(text("XDG_RUNTIME_DIR is no folder")),
        CliError::BadAddress(text("localhost:port")),
        CliError::NotAHost { address: address(), why: text("it greets with HTTP/1.1 400") },
        CliError::HostGone(text("it has ended")),
        CliError::Refused(text("nothing is stopped; 'go' waits for a stop")),
        CliError::RefusedByHost {
            why: text("lock.upper is running; pause it first, or wait until it stops"),
            code: ErrorCode::NotStopped,
        },
        CliError::NoAnswer(text("stackTrace")),
        CliError::GivenUp(text("'go'")),
        CliError::TurnedAway(text("16 clients are attached, which is the most")),
        CliError::Usage(text("there is no command 'nonsense'; 'help' lists them")),
        CliError::NoStop { seconds: 10.0 },
        CliError::InBatch { file: text("check.adz"), line: 3, why: Box::new(CliError::NoStop { seconds: 2.5 }) },
        CliError::Unreadable { file: text("check.adz"), why: system() },
        CliError::Unwritable { file: text("adzeman.toml"), why: system() },
        CliError::BadProject { file: text("adzeman.toml"), why: text("line 3: 'paths' is a table of folders") },
        CliError::NotStarted { command: text("lockside --frames 10"), why: text("no such file or directory") },
        CliError::NoDemo(text("no free port")),
        CliError::Terminal(text("not a terminal")),
        CliError::BadAnswer { command: text("stackTrace"), why: text("missing field `stackFrames`") },
    ]
}

/// What is declared in an enum of a source of this crate.
fn kinds(source: &str, name: &str) -> Vec<String> {
    let body = source.split(&format!("enum {name} {{\n")).nth(1).and_then(|rest| rest.split("\n}\n").next()).unwrap();
    let lines = body.lines().filter_map(|line| line.strip_prefix("    "));
    let kinds = lines.filter(|line| line.starts_with(char::is_uppercase));
    kinds.map(|line| line.chars().take_while(|c| c.is_alphanumeric()).collect()).collect()
}

fn kind(debug: &str) -> String {
    debug.chars().take_while(|c| c.is_alphanumeric()).collect()
}

fn everything(columns: Option<usize>) -> String {
    let reports = reports().into_iter().map(|report| (kind(&format!("{report:?}")), render(&report, columns)));
    let notices = notices().into_iter().map(|notice| (kind(&format!("{notice:?}")), render_notice(&notice)));
    let errors = errors().into_iter().map(|error| (kind(&format!("{error:?}")), format!("{error}\n")));
    let mut all = String::new();
    for (kind, text) in reports.chain(notices).chain(errors) {
        let plain = anstream::adapter::strip_str(&text).to_string();
        all += &format!("--- {kind}\n{}", folded(&plain, columns));
    }
    all
}

#[test]
fn there_is_one_of_everything() {
    let (report, error) = (include_str!("../report.rs"), include_str!("../error.rs"));
    let said = everything(None);
    for (source, name, least) in [(report, "Report", 51), (report, "Notice", 10), (error, "CliError", 20)] {
        let kinds = kinds(source, name);
        assert!(kinds.len() >= least, "{kinds:?}");
        for kind in kinds {
            assert!(said.contains(&format!("--- {kind}\n")), "no {name}::{kind} is looked at here");
        }
    }
}

#[test]
fn everything_on_60_columns() {
    insta::assert_snapshot!(everything(Some(60)));
}

#[test]
fn everything_on_80_columns() {
    insta::assert_snapshot!(everything(Some(80)));
}

#[test]
fn everything_on_160_columns() {
    insta::assert_snapshot!(everything(Some(160)));
}

#[test]
fn nothing_is_wider_than_the_terminal() {
    for columns in 60..=200 {
        for line in everything(Some(columns)).lines() {
            assert!(display_width(line) <= columns, "{columns}: {line}");
        }
    }
}

#[test]
fn nothing_that_is_said_of_commands_is_lost_where_it_is_folded() {
    let all = everything_for_tests();
    for columns in [60, 80, 160] {
        let fitted = folded(&all, Some(columns));
        let letters = |text: &str| text.chars().filter(|c| !c.is_whitespace()).collect::<String>();
        assert_eq!(letters(&fitted), letters(&all));
    }
}
