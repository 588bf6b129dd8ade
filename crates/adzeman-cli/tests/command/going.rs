//! Breakpoints that say and count, and the ways to go on, on the demo.

use crate::{Lockside, has, text};

#[test]
fn breakpoints_say_count_end_and_are_kept() {
    let folder = tempfile::tempdir().unwrap();
    let project = folder.path().join("adzeman.toml");
    std::fs::write(&project, "# ours\nbreaks = [\"in fare for passage 1\", \"at no such place\"]\n").unwrap();
    let host = Lockside::start(&["--fps", "0", "--frames", "1500"]);
    let commands = "\
go
breaks
look break 1
remove 1
break in fare as toll say \"{name} {hits}: {length} m\"
break on record.after_save after 1 once
disable toll
enable toll
keep toll
go
breaks
break on change host.office.passages
go
breaks off
breaks on
leave
";
    let options = ["--project", project.to_str().unwrap()];
    let output = host.batch(&options, commands);
    let shown = text(&output.stdout);
    assert!(output.status.success(), "{shown}\n{}", text(&output.stderr));
    has(
        &shown,
        &[
            "'at no such place' of ",
            "1 breakpoint set from ",
            "ledger stopped by breakpoint 1, in fare",
            "kept in the project file",
            "→ 22 ┃   if minutes > tariff.free_after then",
            "disabled; 'enable 2' lets it work",
            "» toll 1: 6.4 m (scripts/ledger.lua:22)",
            "was hit as often as it ever will be",
            "last hit scripts/ledger.lua:42, during record.after_save of passage 2",
            "lockside is held after a change, by breakpoint 4",
            "host.office.passages was 2, and is 3, after record.before_save of passage 3",
            "all breakpoints are disarmed; 'breaks on' arms them",
            "3 breakpoints are armed",
        ],
    );
    let kept = std::fs::read_to_string(&project).unwrap();
    has(&kept, &["# ours\n", "  'in fare as toll say \"{name} {hits}: {length} m\"',\n", "\"at no such place\""]);
    assert!(!kept.contains("passage 1"), "what was removed is gone from the file too: {kept}");
}

#[test]
fn ways_to_go_on_call_and_go_again() {
    // Slowly enough that the next passage is far when a function is called that it would call too.
    let host = Lockside::start(&["--fps", "500", "--frames", "1100"]);
    let commands = "\
break at ledger.lua:34 for passage 2
go
let record.length = 11
go again
look record.length
go line 38
into
run fare(24, 0)
break in rate
run fare(24, 0)
look stack
out
remove all
go next frame.update
go 3 frame.update
break on error
run error('the gate is stuck')
go
";
    let output = host.batch(&[], commands);
    let shown = text(&output.stdout);
    assert!(output.status.success(), "{shown}\n{}", text(&output.stderr));
    has(
        &shown,
        &[
            "record.length is now 11",
            "6.4  float",
            "ledger stopped, as it was to go on to here, in before_save",
            "ledger is done with record.before_save of passage 2; lockside has taken over",
            "it returned 7.2",
            "fare(24, 0) returned 23.2",
            "lockside runs › run fare(24, 0)\nledger stopped by breakpoint 2, in rate",
            "1  fare (by a tail call)",
            "it returned 0.8",
            "stopped at an error, by breakpoint 3",
            "expression:1: the gate is stuck (nobody in the script catches it)",
            "error('the gate is stuck') failed: the gate is stuck",
        ],
    );
}

#[test]
fn attached_disarmed_nothing_stops_until_it_is_armed() {
    let host = Lockside::start(&["--fps", "0"]);
    let output = host.batch(&["--disarmed", "--patience", "0.3"], "break on frame.update\ngo\n");
    assert_eq!(output.status.code(), Some(5), "{}", text(&output.stdout));
    has(&text(&output.stdout), &["all breakpoints are disarmed"]);
    let output = host.batch(&["--disarmed"], "break on frame.update\nbreaks on\ngo\n");
    assert!(output.status.success());
    has(&text(&output.stdout), &["1 breakpoints are armed", "stopped by breakpoint 1"]);
}

#[test]
fn the_innermost_function_goes_on_from_another_line() {
    let host = Lockside::start(&["--fps", "0"]);
    let commands = "break on record.before_save when event.record.length > 20\ngo\ngo line 34\ngo from line 31\nover\n\
                    go from line 38\nlook toll\ngo from line 26\n";
    let output = host.batch(&[], commands);
    let shown = text(&output.stdout) + &text(&output.stderr);
    has(
        &shown,
        &[
            "goes on from line 31; every value is what it was",
            "goes on from line 38, where toll is nil; every other value is what it was",
            "line 26 does not begin with a statement of the function that is stopped in; ledger can go on from lines 31, 32, 34, 35, 36",
        ],
    );
    // A line that was passed over has not run.
    let last = shown.rsplit_once("go from line 38").unwrap().1;
    assert!(!last.contains("✓ 34"), "{last}");
}
