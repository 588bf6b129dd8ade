//! Scripts that were compiled from another language: everything is in what they were written as.

use std::fs;
use std::path::{Path, PathBuf};

use crate::attaching::User;
use crate::has;

/// A keeper of locks as a real compiler writes it; see `compile.sh` beside it.
fn compiled(file: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../adzeman-demo/compiled").join(file)
}

/// A user whose folder has these files, and a host that works its locks with the first of them.
fn user_with(files: &[(&str, &str)]) -> (User, crate::attaching::Host) {
    let user = User::new();
    fs::create_dir(user.work.path().join("scripts")).unwrap();
    for (name, from) in files {
        fs::copy(compiled(from), user.work.path().join(name)).unwrap();
    }
    let host = user.host("dormant", &["--lock-script", files[0].0]);
    (user, host)
}

/// Breakpoints, stops, steps, messages and the stack; `keeper.ts` and its lines are the same in every case. Where the water
/// is level a gate opens, and the last step would end there: it is not where the breakpoint stops. The host runs while
/// they are set: the first event that stops may have begun before the message was, the second has not.
fn works_in_the_original(user: &User) {
    let shown = user.attached(
        &[],
        "break at keeper.ts:67 say \"frame {event.frame}\"\n\
         break at keeper.ts:47 when apart > 0.1\n\
         go\nlook stack\ngo over\ngo over\nlook sources\ngo\n",
    );
    has(
        &shown,
        &[
            "breakpoint 2 at keeper.ts:47 when apart > 0.1 → scripts/keeper.ts:47",
            "» frame ",
            "stopped by breakpoint 2, in Keeper.prototype.level",
            "→ 47 ┃         sluice(side, opening); sluice(other(side), 0);",
            "scripts/keeper.ts:58",
            "scripts/keeper.ts:67",
            // One step goes over the four lines that line 47 became.
            "→ 48 ┃         return apart;",
            // The end of the method is no line of the original: the step goes on, to the end of the event.
            "is done with frame.update",
            "scripts/keeper.ts",
        ],
    );
}

#[test]
fn a_map_in_the_script_is_used() {
    let (user, _host) = user_with(&[("scripts/keeper.lua", "keeper.lua")]);
    works_in_the_original(&user);
    // The other side is a look away, and breakpoints there work as well.
    let shown = user.attached(&[], "break at keeper.lua:42\ngo\nlook source --generated\ngo into\ngo out\n");
    has(&shown, &["scripts/keeper.ts:47", "→ 42 ┃     sluice(side, opening)", "→ 27 ┃ const other"]);
    // A line that became nothing moves to the next that did.
    has(&user.attached(&[], "break at keeper.ts:50\n"), &["line 50 has no code to stop at; moved to line 52"]);
}

#[test]
fn a_map_beside_the_script_is_used() {
    let (user, _host) = user_with(&[
        ("scripts/keeper-beside.lua", "keeper-beside.lua"),
        ("scripts/keeper-beside.lua.map", "keeper-beside.lua.map"),
        ("scripts/keeper.ts", "keeper.ts"),
    ]);
    works_in_the_original(&user);
}

#[test]
fn a_map_that_the_project_file_names_is_used() {
    let (user, _host) = user_with(&[("scripts/keeper-beside.lua", "keeper-beside.lua")]);
    let plain = user.attached(&[], "break in Keeper.prototype.level\ngo\n");
    has(&plain, &["scripts/keeper-beside.lua", "→ 40 ┃"]);
    let here = tempfile::tempdir().unwrap();
    for file in ["keeper.ts", "keeper-beside.lua.map"] {
        fs::copy(compiled(file), here.path().join(file)).unwrap();
    }
    let project = here.path().join("adzeman.toml");
    fs::write(&project, "[maps]\n\"keeper-beside.lua\" = \"keeper-beside.lua.map\"\n\"weir.lua\" = \"weir.map\"\n")
        .unwrap();
    let shown = user.attached(
        &["--project", project.to_str().unwrap()],
        "break at keeper.ts:47\ngo\nlook stack\nlook source --generated\n",
    );
    has(
        &shown,
        &[
            "the source map",
            "weir.map",
            "could not be set",
            "→ 47 ┃         sluice(side, opening); sluice(other(side), 0);",
            "scripts/keeper.ts:58",
            "→ 42 ┃     sluice(side, opening)",
        ],
    );
}

#[test]
fn a_broken_map_is_told_of_and_the_script_is_shown_as_it_is() {
    let user = User::new();
    let script = fs::read_to_string(compiled("keeper-beside.lua")).unwrap();
    for (comment, why) in [
        ("--# sourceMappingURL=gone.map", "gone.map cannot be read"),
        ("--# sourceMappingURL=data:application/json;base64,e30=", "no line of the script is mapped by it"),
        ("--# sourceMappingURL=keeper.map", "keeper.map: it is no source map"),
    ] {
        fs::write(user.work.path().join("keeper.map"), "[1, 2").unwrap();
        fs::write(user.work.path().join("keeper.lua"), format!("{script}\n{comment}\n")).unwrap();
        let _host = user.host("dormant", &["--lock-script", "keeper.lua"]);
        let shown = user.attached(&[], "break at keeper.lua:42\ngo\n");
        has(&shown, &["the source map of keeper.lua cannot be used", why, "its own lines are shown", "→ 42 ┃"]);
    }
    let refused = user.host("dormant", &[]);
    let output =
        user.session(&["attach", "--batch", "-", &refused.id()], "break at lock.lua:9\ngo\nlook source --generated\n");
    has(&crate::text(&output.stderr), &["was not compiled from another one"]);
    let output = user.command().args(["lockside", "--lock-script", "gone.lua"]).output().unwrap();
    has(
        &crate::text(&output.stderr),
        &["the script gone.lua cannot be read", "choose another file with --lock-script"],
    );
}
