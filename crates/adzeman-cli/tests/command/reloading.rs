//! Correcting a script where it stands: from a file here, by an editor, and on the host's own text.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use crate::{Lockside, adzeman, answered, has, text};

const LEDGER: &str = include_str!("../../../adzeman-demo/scripts/ledger.lua");
const LOCK: &str = include_str!("../../../adzeman-demo/scripts/lock.lua");
const WRONG: &str = "  if length > 12 then
    return tariff.per_metre.middle
  elseif length > 20 then
    return tariff.per_metre.large
  end";
const RIGHT: &str = "  if length > 20 then
    return tariff.per_metre.large
  elseif length > 12 then
    return tariff.per_metre.middle
  end";

/// Runs commands in a folder; answers what was printed, and whether all of it worked.
fn ran(host: &Lockside, folder: &Path, editor: &str, commands: &str) -> (String, bool) {
    let mut command = adzeman();
    command.args(["attach", &host.address, "--batch", "-"]).current_dir(folder);
    let output = answered(command.env("EDITOR", editor).env_remove("VISUAL"), commands);
    (text(&output.stdout) + &text(&output.stderr), output.status.success())
}

#[test]
fn a_wrong_toll_becomes_a_right_one_at_the_same_moment() {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("scripts")).unwrap();
    assert!(LEDGER.contains(WRONG));
    fs::write(folder.path().join("scripts/ledger.lua"), LEDGER.replace(WRONG, RIGHT)).unwrap();
    let host = Lockside::start(&["--fps", "0"]);
    let commands = "break on record.before_save when event.record.length > 20\ngo\ngo line 26 in ledger.lua\n\
                    reload ledger.lua\nlook stack\ngo again\ngo line 26 in ledger.lua\nremove all\n\
                    break on record.after_save say \"{event.record.boat}: {event.toll}\" once\ngo 2 record.after_save\nchanges\n\
                    reload scripts/ledger.lua\nreload ledger.lua --original\nrun rate\n";
    let (shown, _) = ran(&host, folder.path(), "", commands);
    has(
        &shown,
        &[
            "scripts/ledger.lua here is not what the host runs",
            "sum = 21.2",
            "scripts/ledger.lua runs as it is written now, in ledger: 1 changed, 3 unchanged",
            "rate  12  changed",
            "sum = 34.099999999999994 (was 21.2)",
            "» Kingfisher: 34.1",
            "the text of scripts/ledger.lua",
            "scripts/ledger.lua runs as it is written: 4 unchanged",
            "1 changed, 3 unchanged",
        ],
    );
}

#[test]
fn a_text_that_does_not_fit_is_refused_with_what_does_not() {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("scripts")).unwrap();
    let file = folder.path().join("scripts/ledger.lua");
    let host = Lockside::start(&["--fps", "0"]);
    fs::write(&file, LEDGER.replace(WRONG, "  if length > 20 than")).unwrap();
    let (shown, is_done) = ran(&host, folder.path(), "", "reload ledger.lua\n");
    assert!(!is_done && shown.contains("scripts/ledger.lua:13: 'then' expected near 'than'"), "{shown}");
    let (shown, is_done) = ran(&host, folder.path(), "", "reload nowhere.lua\n");
    assert!(!is_done && shown.contains("no script of the host is called 'nowhere.lua'"), "{shown}");
    fs::remove_file(&file).unwrap();
    let (shown, is_done) = ran(&host, folder.path(), "", "reload ledger.lua\n");
    assert!(!is_done && shown.contains("there is no file scripts/ledger.lua here"), "{shown}");
}

#[test]
fn an_editor_is_opened_at_the_line_on_the_host_s_own_text() {
    let folder = tempfile::tempdir().unwrap();
    let script = |name: &str, body: &str| {
        let file = folder.path().join(name);
        fs::write(&file, format!("#!/bin/sh\n{body}\n")).unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o755)).unwrap();
        file.to_str().unwrap().to_owned()
    };
    let host = Lockside::start(&["--fps", "0"]);
    // It is given the line, and the file.
    let right = script(
        "right",
        "echo \"$1 $2 $3\"; sed -i 's/base = 4.0,/base = 400.0,/; s/length > 12/length > 1000/' \"$3\"",
    );
    let commands = "break in fare\ngo\nedit ledger.lua:13\nrun rate(14)\nedit\n";
    let (shown, is_done) = ran(&host, folder.path(), &format!("{right} --wait"), commands);
    has(
        &shown,
        &[
            "--wait +13 ",
            "ledger.lua",
            "1 changed, 3 unchanged",
            "what stands outside of all functions is written otherwise, too; it is not run again",
            "rate(14) returned 0.5",
        ],
    );
    assert!(
        !is_done && shown.contains("the text was not changed"),
        "the second time nothing is left to change: {shown}"
    );
    // What does not parse is not lost with the folder that it was edited in, nor is what an editor wrote that failed.
    for (ending, told) in [("", "scripts/ledger.lua:"), ("; exit 3", "nothing was reloaded")] {
        let typed = script("wrong", &format!("echo 'function (' >> \"$2\"{ending}"));
        let (shown, is_done) = ran(&host, folder.path(), &typed, "edit ledger.lua\n");
        assert!(!is_done && shown.contains(told), "{shown}");
        let kept = shown.lines().find_map(|line| line.strip_prefix("your text is kept in ")).unwrap();
        assert!(fs::read_to_string(kept).unwrap().ends_with("function (\n"), "{kept}");
        let around = Path::new(kept).parent().unwrap();
        assert_eq!(fs::metadata(around).unwrap().permissions().mode() & 0o777, 0o700, "it is nobody else's");
        fs::remove_dir_all(around).unwrap();
    }
    let (shown, is_done) = ran(&host, folder.path(), &script("gives-up", "exit 3"), "edit ledger.lua\n");
    assert!(!is_done && shown.contains("nothing was reloaded") && !shown.contains("is kept"), "{shown}");
    let (shown, is_done) = ran(&host, folder.path(), "", "edit ledger.lua\n");
    assert!(!is_done && shown.contains("Set EDITOR"), "{shown}");
}

#[test]
fn the_gates_open_once_the_script_is_corrected() {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("scripts")).unwrap();
    let statement = "  if weather.wind > 8 then\n    margin = weather.wind / 100\n  else\n    margin = EVEN\n  end\n";
    assert!(LOCK.contains(statement));
    fs::write(folder.path().join("scripts/lock.lua"), LOCK.replace(statement, "")).unwrap();
    let host = Lockside::start(&["--fps", "0"]);
    let commands = "break on change host.locks.upper.gate_refusals as refused\ngo\nremove all\nuse context lock.upper\n\
                    break on change margin as margin\ngo\nreload lock.lua\nremove all\n\
                    let margin = 0.02\nbreak on change host.locks.upper.gate_refusals\ngo 2000 frame.update\nbreaks\n";
    let (shown, is_done) = ran(&host, folder.path(), "", commands);
    assert!(is_done, "{shown}");
    has(
        &shown,
        &[
            "lock.upper stopped after a change, by breakpoint 2, in weather_changed",
            "in lock.lower, lock.middle, lock.upper",
            "weather_changed",
            "1 of 3 run, and change when they return",
            "stopped, as it was to go on to here",
            "0     on change host.locks.upper.gate_refusals",
        ],
    );
}

#[test]
fn a_changed_script_says_so_to_whoever_comes_and_shows_what_it_was() {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("scripts")).unwrap();
    let changed = LEDGER.replace(WRONG, RIGHT);
    fs::write(folder.path().join("scripts/ledger.lua"), &changed).unwrap();
    let host = Lockside::start(&["--fps", "0"]);
    let (shown, _) = ran(&host, folder.path(), "", "reload ledger.lua\n");
    has(&shown, &["1 changed, 3 unchanged"]);
    let commands = "break at ledger.lua:12 once\ngo\nlook source --before\nreload ledger.lua --run\n\
                    reload ledger.lua --original\n";
    let (shown, _) = ran(&host, folder.path(), "", commands);
    has(
        &shown,
        &[
            "scripts/ledger.lua runs in another text than was loaded: it was changed on the spot ('reload scripts/ledger.lua --original' goes back)",
            "scripts/ledger.lua, as it was before",
            "if length > 12 then",
            "what stands outside of all functions ran in ledger",
        ],
    );
    let (shown, _) = ran(&host, folder.path(), "", "look source --before\n");
    assert!(!shown.contains("in another text than was loaded"), "{shown}");
}
