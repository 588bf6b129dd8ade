//! Looking at scripts and the host with the command, and that looking disturbs nothing.

use std::path::Path;

use serde_json::Value as Json;

use crate::{Lockside, adzeman, alone, has, text};

/// Runs commands that must all succeed, and answers what was printed.
#[track_caller]
fn ran(host: &Lockside, options: &[&str], commands: &str) -> String {
    let output = host.batch(options, commands);
    let shown = text(&output.stdout);
    assert!(output.status.success(), "{shown}\n{}", text(&output.stderr));
    shown
}

/// The same with `--json`, as objects.
#[track_caller]
fn objects(host: &Lockside, commands: &str) -> Vec<Json> {
    ran(host, &["--json"], commands).lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

const AT_UPPER: &str = "break on frame.update for lock.upper when event.boat\ngo\n";

#[test]
fn changes_between_stops_and_watches_are_shown_at_every_stop() {
    let host = Lockside::start(&["--fps", "0"]);
    let commands = format!(
        "{AT_UPPER}watch event.level - lock.level\nwatch apart * 2 in level_with\nwatch host.weather.rain\nwatches\n\
         go\nlook level_with\nwatch nobody + 1\nbreak in level_with\ngo\nout\nlook watch 1\nremove watch 2\nwatches\n"
    );
    let lines = objects(&host, &commands);
    let report = |at: usize| &lines[at]["report"];
    let watch = &report(3)["watch"];
    assert_eq!((&watch["what"], &watch["value"]), (&"event.level - lock.level in update".into(), &"0.0".into()));
    let bound = &report(4)["watch"];
    assert_eq!(bound["note"], "not in scope here: it is in level_with");
    assert_eq!(report(5)["watch"]["what"], "host.weather.rain", "it is worth something everywhere");
    let stop = &report(7)["stop"];
    assert_eq!(stop["watches"].as_array().unwrap().len(), 3);
    let lock = stop["locals"].as_array().unwrap().iter().find(|row| row["name"] == "lock").unwrap();
    assert!(lock["before"].as_str().unwrap().starts_with("{above = "), "{lock}");
    assert_eq!(report(9)["watch"]["note"], "not in scope here: no script makes a variable 'nobody'");
    let in_level_with = &report(11)["stop"];
    assert_eq!(in_level_with["function"], "level_with");
    assert_eq!(in_level_with["watches"][0]["out_of_scope"], true, "{in_level_with}");
    assert_eq!(report(15)["watches"].as_array().unwrap().len(), 3, "one of four was removed");
}

#[test]
fn records_trees_shapes_and_texts_are_read_by_people() {
    let host = Lockside::start(&["--fps", "0"]);
    let shown = ran(
        &host,
        &[],
        &format!(
            "{AT_UPPER}look host.boats as table\nlook host.boats[1]\nlook lock as shape\nlook host\nlook stack\n\
             look \"one\\ntwo\" as text\nlook \"lock\" as bytes\nlook 255 as hex\nlook 5 as binary\nlook 8 as octal\n\
             look sources margin\nlook sources ledger.lua\nlook globals\nlook it2\n"
        ),
    );
    has(
        &shown,
        &[
            "heading  length  lock",
            "   boat         table",
            "     heading    string",
            "water in the chamber, above the basin's bed",
            "subject lock.upper; context lock.upper",
            " (secret) ",
            "update(dt = 1.0, lock = {",
            "frame.update of lock.upper, raised by lockside",
            "one\ntwo\n",
            "00000000  6c 6f 63 6b",
            "0xff",
            "0b101",
            "0o10",
            "scripts/lock.lua:4  local margin = EVEN",
            "scripts/ledger.lua\n",
            "captures choose, target, turns, level_with, …",
            "look it2\n5  integer",
        ],
    );
    assert!(!shown.contains("271828"), "what is secret is not shown");
    assert!(!shown.contains("collectgarbage"), "built-ins are hidden unless asked for");
}

#[test]
fn long_lists_go_on_with_more() {
    let host = Lockside::start(&["--fps", "0"]);
    let list = "(function() local t = {} for i = 1, 100 do t[i] = {n = i} end return t end)()";
    let lines = objects(&host, &format!("look {list}\nmore\nmore\nlook {list} as table\nmore\n"));
    let first = |line: &Json, rows: &str| line["report"][rows][0]["name"].as_str().unwrap().to_owned();
    assert_eq!(first(&lines[1], "inside"), "[1]");
    assert_eq!([first(&lines[2], "rows"), first(&lines[3], "rows")], ["[41]", "[81]"]);
    assert_eq!([first(&lines[4], "rows"), first(&lines[5], "rows")], ["[1]", "[41]"]);
    assert_eq!(lines[5]["report"]["total"], 100);
    let output = host.batch(&[], "look 1\nmore\n");
    has(&text(&output.stderr), &["there is no more of what was listed last"]);
}

#[test]
fn monitors_print_their_samples_for_programs() {
    let host = Lockside::start(&["--fps", "200"]);
    let lines = objects(
        &host,
        "monitor host.office.frame every 20ms for 3\nremove monitor all\nmonitor event.dt on frame.update every 30 for 2\n",
    );
    let samples: Vec<_> =
        lines.iter().filter_map(|line| line["notice"].get("value").map(|_| &line["notice"])).collect();
    assert_eq!(samples.len(), 5, "{lines:?}");
    let frame = |sample: &Json| sample["value"].as_str().unwrap().parse::<u64>().unwrap();
    assert!(frame(samples[0]) < frame(samples[2]));
    assert_eq!(samples[4]["what"], "event.dt on frame.update every 30");
    assert_eq!((&samples[4]["value"], &samples[4]["count"]), (&"1.0".into(), &2.into()));
    assert!(samples.iter().all(|sample| sample["cost_microseconds"].as_f64().unwrap() > 0.0));
    let fails = |commands: &str, part: &str| has(&text(&host.batch(&[], commands).stderr), &[part]);
    fails("monitor host.office.frame +\n", "cannot read that");
    fails("monitors\n", "nothing is monitored");
    fails("remove monitor 4\n", "there is no monitor 4");
    let stopped = objects(&host, "break on frame.update\ngo\nmonitor 1\n");
    let last = stopped.iter().rfind(|line| line["command"] == "monitor 1").unwrap();
    assert_eq!(last["report"]["kind"], "stop", "what is held goes on, up to the next stop");
}

#[test]
fn watches_are_kept_in_the_project_file() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("adzeman.toml");
    std::fs::write(&file, "# ours\nlibrary = [\"lib/\"]\n").unwrap();
    let project = ["--project", file.to_str().unwrap()];
    let host = Lockside::start(&["--fps", "0"]);
    ran(&host, &project, "watch host.office.frame\nwatch apart in level_with\nkeep watches\n");
    let kept = std::fs::read_to_string(&file).unwrap();
    assert_eq!(
        kept,
        "# ours\nlibrary = [\"lib/\"]\nwatches = [\n  \"host.office.frame\",\n  \"apart in level_with\",\n]\n"
    );
    let shown = ran(&host, &project, "watches\nremove watch 1\n");
    has(&shown, &["1  host.office.frame", "2  apart in level_with"]);
    assert!(!std::fs::read_to_string(&file).unwrap().contains("host.office.frame"));
}

#[test]
fn a_change_that_the_host_does_not_want_changes_nothing() {
    let host = Lockside::start(&["--fps", "0"]);
    let fails = |commands: &str, part: &str| {
        let output = host.batch(&[], commands);
        assert_eq!(output.status.code(), Some(1));
        has(&text(&output.stderr), &[part]);
    };
    fails("let host.locks.upper.level = 99\n", "lock upper holds from 0 to 10 m of water");
    fails("let host.locks.upper.level = 'high'\n", "expected f64");
    fails("let host.locks.upper.gates.below = 'ajar'\n", "expected `open` or `shut`");
    fails("let host.office.frame = 1\n", "the host opened it for looking only");
    fails("look host.office.safe_code\n", "is kept secret by the host");
    let shown = ran(&host, &[], "let host.weather.rain = 3\n");
    has(&shown, &["host.weather.rain is now 3.0, changed ", "s on the host's clock"]);
}

/// Numbers that look random and are the same in every run.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, limit: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % limit
    }
}

/// Everything in the database, as text.
fn records(file: &Path) -> Vec<String> {
    let database = rusqlite::Connection::open(file).unwrap();
    let mut rows = database.prepare("select rowid, * from passage order by rowid").unwrap();
    let count = rows.column_count();
    let row = |row: &rusqlite::Row<'_>| {
        let cells = (0..count).map(|at| format!("{:?}", row.get_ref_unwrap(at)));
        Ok(cells.collect::<Vec<_>>().join(" "))
    };
    rows.query_map([], row).unwrap().map(Result::unwrap).collect()
}

/// What is looked at; none of it can be told from the outside not to have been.
const LOOKS: [&str; 24] = [
    "look",
    "look stack",
    "look locals",
    "look captured",
    "look globals",
    "look built-ins",
    "look event",
    "look host",
    "look source",
    "look contexts",
    "look sources margin",
    "look lock",
    "look lock.gates",
    "look lock as shape",
    "look lock as table",
    "look lock.level * 2",
    "look host.boats as table",
    "look host.locks as shape",
    "look host.locks as text",
    "look host.office",
    "look update",
    "look string.format('%s %q', lock.name, lock.level)",
    "look event.level as hex",
    "watches",
];

/// The whole promise in one run: 5,000 frames, 200 stops, five looks at each.
#[test]
fn a_thousand_looks_at_two_hundred_stops_change_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let (quiet, looked) = (folder.path().join("quiet.db"), folder.path().join("looked.db"));
    let options = |file: &Path| {
        let file = file.to_str().unwrap().to_owned();
        ["--fps", "0", "--frames", "5000", "--seed", "23", "--db", &file].map(str::to_owned)
    };
    let undisturbed = alone(&options(&quiet).each_ref().map(String::as_str));
    let host = Lockside::start(&options(&looked).each_ref().map(String::as_str));
    let mut numbers = Numbers(7642);
    let mut commands =
        "break on frame.update for lock.upper once\ngo\nwatch lock.level - event.level\nwatch host.weather.wind\n"
            .to_owned();
    for _ in 0..200 {
        commands.push_str(&format!("go {} frame.update\n", 1 + numbers.below(60)));
        for _ in 0..5 {
            commands.push_str(LOOKS[numbers.below(LOOKS.len() as u64) as usize]);
            commands.push('\n');
        }
    }
    let shown = ran(&host, &[], &commands);
    assert_eq!(shown.matches("as it was to go on to here").count(), 200);
    assert_eq!(host.summary(), undisturbed, "the same state, to the bit");
    let (quiet, looked) = (records(&quiet), records(&looked));
    assert!(quiet.len() > 20, "{} records", quiet.len());
    assert_eq!(looked, quiet, "the same records");
}

/// The commands of `docs/inspecting.md`, and what the page promises of them.
#[test]
fn the_page_on_inspecting_comes_out_as_it_says() {
    let page = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/inspecting.md")).unwrap();
    // The host of the refusals runs on between them; the other one comes out the same each time.
    let (host, refusing) = (Lockside::start(&["--fps", "0"]), Lockside::start(&["--fps", "0"]));
    let mut commands = String::new();
    let mut refusals = 0;
    for block in page.split("```adzeman").skip(1).filter_map(|block| block.split("```").next()) {
        match block.strip_prefix(" refused\n") {
            Some(refused) => {
                let output = refusing.batch(&[], refused);
                assert_eq!(output.status.code(), Some(1), "{refused}");
                refusals += 1;
            }
            None => commands.push_str(block),
        }
    }
    assert_eq!(refusals, 3);
    let shown = ran(&host, &["--patience", "60"], &commands);
    has(
        &shown,
        &[
            "lock.upper stopped by breakpoint 1, in level_with",
            "256  integer",
            " (was ",
            "not in scope here: it is in level_with",
            "3.0, 0.5, 12  float",
            "3 samples, which took",
        ],
    );
}

#[test]
fn a_context_that_is_held_with_another_one_shows_no_stop_that_is_not_its_own() {
    let host = Lockside::start(&["--fps", "0"]);
    let held = format!("{AT_UPPER}look contexts\nuse context ledger\nlook fare\n");
    let shown = ran(&host, &[], &held);
    assert!(shown.contains("→ lock.upper (stopped)") && shown.contains("ledger (held with lock.upper)"), "{shown}");
    assert!(
        shown.contains("→ ledger (held with lock.upper)") && shown.contains("function at scripts/ledger.lua:12"),
        "{shown}"
    );
    for command in
        ["look", "look stack", "look locals", "look source", "go over", "go out", "go line 60", "use frame 1"]
    {
        let output = host.batch(&[], &format!("{AT_UPPER}use context ledger\n{command}\n"));
        let why = text(&output.stderr);
        let expected = "ledger is at no stop of its own; 'use context lock.upper' goes back to the one that is";
        assert!(!output.status.success() && why.contains(expected), "{command}: {why}");
    }
    ran(&host, &[], &format!("{AT_UPPER}use context ledger\nuse context lock.upper\nlook stack\ngo over\n"));
}

#[test]
fn another_setting_is_tried_for_now_and_taken_back() {
    let host = Lockside::start(&["--fps", "0"]);
    let commands = format!(
        "{AT_UPPER}let margin = 0.5\nlet host.weather.rain = 12 for now\nlet lock.level = 3 for now\nlet dt = 9 for now\nchanges\n\
         run lock.level = 4\nundo 3\nundo 3 anyway\nundo\nlook dt\nchanges\nlook host.weather\n"
    );
    let shown = ran(&host, &[], &commands);
    for expected in [
        "margin is now 0.5\n",
        "host.weather.rain is now 12.0; 'undo' gives back what was there, and so does leaving",
        "11.5 above the usual 0.5",
        "lock.level is 4 by now, which is not what was set; 'undo 3 anyway' gives back what was there before",
        "dt is 1.0 again",
        "lock.level = 4",
        "mm/h",
        "meant to be tried, usually 0.5",
    ] {
        assert!(shown.contains(expected), "no '{expected}' in {shown}");
    }
    // Another one finds what was there before, but for what was set for good.
    let shown = ran(&host, &["--json"], "look host.weather.rain\nchanges\n");
    assert!(!shown.contains("\"12.0\"") && shown.contains("\"changes\":[]"), "{shown}");
    let output = host.batch(&[], "undo\n");
    assert!(text(&output.stderr).contains("nothing is set for now"), "{}", text(&output.stderr));
}

/// The blocks of a page that begin with this word, put together.
fn blocks(page: &str, word: &str) -> String {
    let fence = format!("```{word}\n");
    let blocks = page.split(&fence).skip(1).filter_map(|block| block.split("```").next());
    blocks.collect()
}

#[test]
fn a_leak_is_found_as_the_page_says() {
    let page = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/inspecting.md")).unwrap();
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("harbour.lua"), blocks(&page, "lua")).unwrap();
    let commands = blocks(&page, "harbour") + "holders of here to here.dot\n";
    std::fs::write(folder.path().join("commands"), commands).unwrap();
    let mut command = adzeman();
    command.current_dir(folder.path()).args(["run", "--batch", "commands", "harbour.lua"]);
    let output = command.output().unwrap();
    let shown = text(&output.stdout);
    assert!(output.status.success(), "{shown}{}", text(&output.stderr));
    has(
        &shown,
        &[
            "table     with a metatable; {name}  +100  +7.8 KiB  200",
            "function  harbour.lua:12            +100  +3.9 KiB  200  on(\"gate\", function() return boat.name end)",
            "listeners.gate[1]  a variable of whole script harbour.lua",
            "here                                 a variable of whole script harbour.lua",
            "listeners.gate[200] › captured boat  a variable of whole script harbour.lua; made at harbour.lua:12: on(\"gate\"",
        ],
    );
    let graph = std::fs::read_to_string(folder.path().join("here.dot")).unwrap();
    has(&graph, &["digraph \"here\"", "captured boat", "[200]"]);
}

#[test]
fn numbers_and_places_are_shown_and_drawn_for_their_owner_alone() {
    let host = Lockside::start(&["--fps", "0"]);
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str| folder.path().join(name).display().to_string();
    let [figures, flames, folded, plan] = ["f.svg", "p.svg", "p.folded", "plan.svg"].map(file);
    let commands = format!(
        "go 600 frame.update\nfigures\nlook figure boats.waiting\nfigures to {figures}\nplan host.boats\n\
         let host.boats[1].spot.x = 700\nplan\nplan to {plan} every 20ms for 2\n"
    );
    let shown = ran(&host, &["--patience", "60"], &commands);
    has(
        &shown,
        &[
            "frame.update",
            "lock.upper",
            "boats that wait at locks",
            "water that passed the sluices",
            "process.memory",
            "the system does not tell for one process",
            "figures are drawn in",
            "reaches out of where it should lie",
            "host.pounds[1]",
        ],
    );
    let profiled = ran(&host, &[], &format!("profile 300ms\nprofile 300ms to {flames}\nprofile 300ms to {folded}\n"));
    has(&profiled, &["update (scripts/lock.lua:41)", "% of the time", "are in"]);
    for name in [&figures, &flames, &plan] {
        assert!(std::fs::read_to_string(name).unwrap().contains("</svg>"), "{name}");
    }
    let lines = std::fs::read_to_string(&folded).unwrap();
    assert!(lines.lines().all(|line| line.rsplit_once(' ').is_some_and(|(_, count)| count.parse::<u64>().is_ok())));
    #[cfg(unix)]
    for name in [figures, flames, folded, plan] {
        use std::os::unix::fs::PermissionsExt as _;
        assert_eq!(std::fs::metadata(&name).unwrap().permissions().mode() & 0o777, 0o600, "{name}");
    }
    let json = ran(&host, &["--json"], "figures every 10ms for 2\nprofile 50ms\nplan\ncensus ledger\n");
    for kind in ["figures", "profile", "plan", "census"] {
        assert!(json.contains(&format!("\"kind\":\"{kind}\"")), "{kind}: {json}");
    }
}
