//! Figures, profiles, censuses, holders and plans, as the tests of what is printed have them.

use adzeman::core::figures::{Cause, Course, FigureNow, KindSum};
use adzeman::core::heap::{Census, Holder, HolderStep, Holders, Root, Tally, Written};
use adzeman::core::plan::{Outside, Overlap, Thing};
use adzeman::core::profile::{Frame, Function, Profile, Stack};

use crate::report::{ContextRow, Report};

fn written(line: u32, text: &str) -> Written {
    Written { source: "scripts/lock.lua".to_owned(), line, text: Some(text.to_owned()) }
}

fn census(boats: u64, running: bool) -> Census {
    let mut tally = Tally::default();
    let mut many = |kind: &str, group: &str, defined: Option<Written>, (count, bytes, measured): (u64, u64, bool)| {
        let group = tally.group(kind, group.to_owned(), defined);
        (0..count).for_each(|_| tally.more(group, bytes, measured));
    };
    many("table", "Boat", None, (boats, 104, true));
    many("table", "{boat, frame, kind, length, lock, minutes, number}", None, (3, 248, true));
    let call = written(14, "on(\"gate\", function() return boat.number end)");
    many("function", "scripts/lock.lua:14", Some(call), (boats, 40, true));
    many("coroutine", "that begins in scripts/lock.lua:30", Some(written(30, "function wait()")), (2, 1056, false));
    (0..30).for_each(|number| many("table", &format!("{{field_{number}}}"), None, (1, 80, true)));
    tally.finish(3 << 20, running, 12_000)
}

fn course(unit: &str, name: &str) -> Report {
    let mut course = Course::default();
    for at in 0..90_u32 {
        let value = if at < 60 { f64::from(at % 4) / 4.0 } else { 9.0 };
        let events = if at == 60 { 1 } else { 3 };
        let cause = || Some(Cause { event: "boat.arrived of boat 7".to_owned(), number: at.into(), events });
        course.note(f64::from(at) / 10.0, value * if unit == "B" { 40_000.0 } else { 1.0 }, cause);
    }
    Report::Figure {
        figure: course.now(name, "boats that wait at locks", unit, (unit != "B").then_some((0.0, 6.0))),
        points: course.points().to_vec(),
        jumps: course.jumps().to_vec(),
    }
}

fn figure(name: &str, value: f64, unit: &str) -> FigureNow {
    FigureNow {
        name: name.to_owned(),
        doc: String::new(),
        unit: unit.to_owned(),
        usual: None,
        value: Some(value),
        least: Some(value / 2.0),
        most: Some(value * 2.0),
        mean: Some(value),
        samples: 100,
        jumps: 0,
        why: None,
    }
}

fn figures(counts_events: bool) -> Report {
    let sum = |event: &str, events, over_budget| KindSum {
        event: event.to_owned(),
        events,
        milliseconds: 812.5,
        worst_milliseconds: 3.25,
        worst: 1363,
        over_budget,
    };
    let row = |context: &str, share, memory| ContextRow { context: context.to_owned(), share, memory };
    let waiting = FigureNow { usual: Some((0.0, 6.0)), jumps: 2, ..figure("boats.waiting", 9.0, "boats") };
    Report::Figures {
        seconds: 61.5,
        followed_seconds: 60.0,
        events: vec![sum("frame.update", 1505, 0), sum("record.before_save", 12, 3)],
        counts_events,
        contexts: vec![
            row("lock.upper", 0.0123, Some(FigureNow { jumps: 1, ..figure("lock.upper.memory", 57_000.0, "B") })),
            row("ledger", 0.0, None),
        ],
        own: vec![waiting, figure("locks.water", 3489.39, "m³")],
        process: vec![
            figure("process.memory", 22.0 * 1_048_576.0, "B"),
            FigureNow::not_known("process.network", "B", "the system does not tell for one process"),
        ],
    }
}

fn profile() -> Profile {
    let function = |name: Option<&str>, defined| Function { name: name.map(str::to_owned), defined };
    let frame = |function, line| Frame { function, line };
    let stack = |frames: &[Frame], samples| Stack {
        context: "lock.upper".to_owned(),
        event: Some("frame.update".to_owned()),
        frames: frames.to_vec(),
        samples,
    };
    Profile {
        functions: vec![
            function(Some("update"), Some(written(41, "function update(dt, lock)"))),
            function(Some("level_with"), Some(written(30, "local function level_with(lock, side)"))),
            function(Some("sluice"), None),
            function(None, Some(written(54, "local on = function(boat)"))),
        ],
        stacks: vec![
            stack(&[frame(0, 48), frame(1, 32), frame(2, 0)], 154),
            stack(&[frame(0, 48), frame(1, 33)], 18),
            stack(&[frame(0, 42)], 5),
            stack(&[frame(3, 57)], 1),
        ],
        idle: 900,
        spent_nanoseconds: 1_000_000,
    }
}

fn profiled(profile: &Profile, slowed: bool, passed_over: u64) -> Report {
    Report::Profile {
        functions: profile.times(),
        samples: profile.samples(),
        ticks: 1786,
        passed_over,
        milliseconds: 2000.0,
        every_milliseconds: 1.12,
        share: 0.0065,
        slowed,
        folded: profile.folded().lines().map(str::to_owned).collect(),
    }
}

fn holders() -> Holders {
    let step = |text: &str, value: &str, made| HolderStep { text: text.to_owned(), value: value.to_owned(), made };
    let held = |root, weak, steps| Holder { root, weak, steps, remark: None };
    let made = written(14, "on(\"gate\", function() return boat.number end)");
    Holders {
        value: "{length = 21.5, name = \"Kingfisher\", number = 7}".to_owned(),
        holders: vec![
            Holder {
                remark: Some("a variable of update".to_owned()),
                ..held(Root::Stack, false, vec![step("boat", "{length = 21.5}", None)])
            },
            held(
                Root::Globals,
                false,
                vec![
                    step("listeners", "{gate = {function}}", None),
                    step(".gate", "{function}", None),
                    step("[1]", "function at scripts/lock.lua:14", None),
                    step(" › captured boat", "{length = 21.5}", Some(made)),
                ],
            ),
            held(Root::Globals, true, vec![step("cache", "{}", None), step("[7]", "{length = 21.5}", None)]),
        ],
        total: 5,
        looked_at: 2371,
        own_bytes: 120_000,
    }
}

fn plan(is_empty: bool) -> Report {
    let thing = |path: &str, name: &str, x, degrees, note: Option<&str>| Thing {
        path: path.to_owned(),
        name: name.to_owned(),
        x,
        y: -3.0,
        length: 21.5,
        width: 3.4,
        degrees,
        ground: note.is_some(),
        note: note.map(str::to_owned),
    };
    let things = vec![
        thing("host.locks.upper", "host.locks.upper", 535.0, None, Some("8.92 m")),
        thing("host.boats[1]", "Kingfisher", 140.75, Some(180.0), None),
        thing("host.boats[2]", "Heron", 700.0, Some(0.0), None),
    ];
    let path = |number: usize| format!("host.boats[{number}]");
    Report::Plan {
        things: if is_empty { Vec::new() } else { things },
        overlaps: if is_empty { Vec::new() } else { vec![Overlap { first: path(1), second: path(2), by: 4.25 }] },
        overlapping: if is_empty { 0 } else { 25 },
        outside: if is_empty { Vec::new() } else { vec![Outside { path: path(2), by: 61.25 }] },
        unit: Some("m".to_owned()),
        unplaced: if is_empty { Vec::new() } else { vec!["host.boats[3] has no number 'spot.x' to lie by".to_owned()] },
        cut: !is_empty,
    }
}

pub(super) fn of_numbers() -> Vec<Report> {
    let (before, now) = (census(10, true), census(30, false));
    let taken = |census: Census, since, grown, parts| Report::Census {
        number: 3,
        context: "lock.upper".to_owned(),
        groups: census.lines.len(),
        census,
        since,
        grown,
        since_running: since.map(|_| true),
        milliseconds: 12.5,
        parts,
    };
    let sampled = profile();
    let held = holders();
    vec![
        figures(true),
        figures(false),
        course("boats", "boats.waiting"),
        course("B", "ledger.memory"),
        Report::FiguresDrawn { file: "day.svg".to_owned(), figures: 8 },
        profiled(&sampled, false, 0),
        profiled(&sampled, true, 31),
        profiled(&Profile::default(), false, 0),
        Report::ProfileWritten { file: "day.svg".to_owned(), samples: 198, stacks: 23 },
        taken(before.clone(), None, None, 7),
        taken(now.clone(), None, None, 0),
        taken(now.clone(), Some(1), Some(now.since(&before)), 0),
        taken(now.clone(), Some(2), Some(Vec::new()), 0),
        Report::Holders { expression: "boat".to_owned(), description: held.told(), holders: held },
        Report::HoldersWritten { file: "boat.dot".to_owned(), paths: 3 },
        plan(false),
        plan(true),
        Report::PlanDrawn { file: "boats.svg".to_owned(), things: 18, overlapping: 1, outside: 2, times: 3 },
    ]
}
