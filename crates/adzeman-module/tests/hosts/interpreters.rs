//! The plain interpreters, as the system has them (`lua5.1`, `lua5.2`, `lua5.3`, `lua5.4`), with a script that loads the module.

use std::io::Write as _;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::user::{Program, User, command, each_version, fed, folder, has, text, whole};

/// A loop that a person ends.
const SCRIPT: &str = r#"local adzeman = require "adzeman"
local level = 2
is_open = true

local function rise(by)
  level = level + by
  return level
end

local until_then = os.time() + 300
while is_open and os.time() < until_then do
  rise(0)
end
print("level " .. level)
"#;

#[test]
fn a_plain_interpreter_is_attached_to_stopped_looked_at_and_changed() {
    each_version(|version| {
        let user = User::new(SCRIPT);
        let program = user.start(version, "dormant");
        let shown = user.ended(
            "break at canal.lua:6\ngo\nlook level\nlook stack\ngo over\nlet level = 7\nremove all\nlet is_open = false\n",
        );
        has(
            &shown,
            &[
                "canal stopped by breakpoint 1, in rise",
                &whole("2", version),
                "whole script canal.lua",
                "canal:7",
                "level is now 7",
            ],
        );
        let ended = program.ended();
        assert!(ended.status.success(), "{}", text(&ended.stderr));
        assert_eq!(text(&ended.stdout), "level 7\n");
        assert!(user.hosts().is_empty());
    });
}

#[test]
fn a_script_that_says_nothing_of_it_is_attached_to_by_what_the_interpreter_is_told() {
    each_version(|version| {
        let user = User::new(&SCRIPT.replace("local adzeman = require \"adzeman\"", "-- A script like any other."));
        let mut interpreter = user.interpreter(version);
        interpreter.env("LUA_INIT", "require 'adzeman'").env("ADZEMAN", "dormant");
        let program = Program(Some(interpreter.spawn().unwrap()));
        user.await_host(version);
        has(
            &user.ended("break in rise\ngo\nlook by\nremove all\nlet is_open = false\n"),
            &["in rise", &whole("0", version)],
        );
        assert_eq!(text(&program.ended().stdout), "level 2\n");
    });
}

#[test]
fn a_condition_is_decided_in_a_plain_interpreter() {
    each_version(|version| {
        let user = User::new(SCRIPT);
        let program = user.start(version, "listen");
        let shown = user.attached("break at canal.lua:6 when by == 0 and level < 3\ngo\nlet level = 3\nlook level\n");
        has(&shown, &[&whole("3", version)]);
        // It is false from now on.
        user.attached("break at canal.lua:6 when by == 0 and level < 3\n");
        user.close();
        assert_eq!(text(&program.ended().stdout), "level 3\n");
    });
}

#[test]
fn without_a_word_nothing_is_opened_and_a_script_may_open_and_close_itself() {
    each_version(|version| {
        let user =
            User::new("local adzeman = require 'adzeman' adzeman.stop() adzeman.say('x') print(adzeman.wait(0))");
        let output = user.interpreter(version).output().unwrap();
        assert_eq!((text(&output.stdout), text(&output.stderr)), ("\n".to_owned(), String::new()));
        assert_eq!(std::fs::read_dir(user.0.path().join("run")).unwrap().count(), 0, "no socket, no file");

        let user = User::new(
            "local adzeman = require 'adzeman'
            print(pcall(adzeman.open))
            print(pcall(adzeman.open, {nmae = 'x'}))
            print(pcall(adzeman.open, {listen = 'yes'}))
            print(adzeman.open {name = 'mygame', listen = 'dormant'})
            print(pcall(adzeman.open, {listen = 'dormant'}))
            for turn = 1, 3 do print(adzeman.close(), adzeman.open {listen = 'dormant'}) end
            print(adzeman.close(), adzeman.close())",
        );
        let output = user.interpreter(version).output().unwrap();
        let shown = text(&output.stdout);
        assert!(output.status.success(), "{}", text(&output.stderr));
        let expected = [
            "ADZEMAN is not set",
            "there is no option 'nmae'",
            "ADZEMAN is 'yes', which means nothing",
            "\nmygame\n",
            "open already, as 'mygame'",
            "true\tcanal\ntrue\tcanal\ntrue\tcanal\n",
            "true\tfalse",
        ];
        has(&shown, &expected);
    });
}

#[test]
fn a_library_of_another_lua_and_a_bad_choice_are_refused_and_the_script_goes_on() {
    each_version(|version| {
        let user = User::new("print(pcall(require, 'adzeman')) print(1 + 1)");
        let elsewhere = user.0.path().join("elsewhere");
        std::fs::create_dir(&elsewhere).unwrap();
        let run = |choice: &str| {
            let path = format!("{}/?.lua;;", elsewhere.display());
            let output = user.interpreter(version).env("LUA_PATH", path).env("ADZEMAN", choice).output().unwrap();
            assert!(output.status.success());
            text(&output.stdout)
        };
        let copy = |from: &str, to: &str| std::fs::copy(folder().join(from), elsewhere.join(to)).unwrap();
        copy("adzeman.lua", "adzeman.lua");
        has(&run(""), &[&format!("this is Lua {version}; there is no library beside"), "\n2\n"]);
        let (own, other) = (version.replace('.', ""), if version == "5.4" { "53" } else { "54" });
        copy(&format!("adzeman_lua{other}.so"), &format!("adzeman_lua{own}.so"));
        has(&run(""), &["undefined symbol", "\n2\n"]);
        copy(&format!("adzeman_lua{own}.so"), &format!("adzeman_lua{own}.so"));
        has(&run("yes"), &["ADZEMAN is 'yes', which means nothing", "\n2\n"]);
        has(&run("dormant"), &["true\ttable: ", "\n2\n"]);
    });
}

#[test]
fn a_client_that_is_killed_at_a_stop_and_many_that_come_and_go_leave_the_script_running() {
    each_version(|version| {
        let user = User::new(SCRIPT);
        let program = user.start(version, "dormant");
        let mut attach = user.prepared(command());
        let mut child = attach.args(["attach", "--batch", "-"]).stdin(Stdio::piped()).spawn().unwrap();
        child.stdin.as_ref().unwrap().write_all(b"break at canal.lua:6\ngo\n").unwrap();
        let until = Instant::now() + Duration::from_secs(120);
        while !user.hosts().iter().any(|host| host.to_string().contains("stopped")) {
            assert!(Instant::now() < until, "it does not stop");
        }
        child.kill().unwrap();
        child.wait().unwrap();
        // The host has to find out.
        while user.hosts().iter().any(|host| host.to_string().contains("control")) {
            assert!(Instant::now() < until, "it is held by one that is gone");
        }
        for turn in 0..20 {
            let armed = ["break at canal.lua:6\ngo\n", "break at canal.lua:7 when level < 0\n", "look threads\n", ""];
            user.attached(armed[turn % 4]);
        }
        user.close();
        assert_eq!(text(&program.ended().stdout), "level 2\n");
    });
}

#[test]
fn a_function_that_always_runs_is_corrected_and_stopped_in_by_whoever_comes_next() {
    each_version(|version| {
        let user = User::new(SCRIPT);
        let program = user.start(version, "dormant");
        // The first thing that is asked of a host that never rests; from then on the text that it runs is known.
        has(&user.attached("reload canal.lua\n"), &["1 unchanged"]);
        let changed = SCRIPT.replace("level = level + by", "-- Höher als zuvor: 水位\n  level = level + by + 1");
        std::fs::write(user.0.path().join("canal.lua"), changed).unwrap();
        // Who did that leaves at once.
        has(&user.attached("reload canal.lua\n"), &["rise", "changed"]);
        let shown = user.ended(
            "break at canal.lua:7 when level > 100\ngo\nlook line\nlook level\nlet level = 1000\nremove all\nlet is_open = false\n",
        );
        has(&shown, &["breakpoint 1, in rise", "level is now 1000"]);
        let output = program.ended();
        assert!(text(&output.stdout).starts_with("level 100"), "{version}: {output:?}\n{shown}");
    });
}

#[test]
fn coroutines_and_texts_of_other_scripts_are_stopped_in_and_looked_at() {
    let script = r#"local adzeman = require "adzeman"
is_open, boats = true, 0
local gate = coroutine.wrap(function(name)
  while true do
    local said = "Grüß Gott, " .. name
    boats = boats + #said
    name = coroutine.yield(said)
  end
end)
local until_then = os.time() + 300
while is_open and os.time() < until_then do
  gate("Ægir 水")
end
print(gate("Ægir"))
"#;
    each_version(|version| {
        let user = User::new(script);
        let program = user.start(version, "dormant");
        let shown = user.ended("break at canal.lua:6\ngo\nlook said\nlook stack\nremove all\nlet is_open = false\n");
        has(&shown, &["Grüß Gott, Ægir 水", "canal.lua:6"]);
        assert_eq!(text(&program.ended().stdout), "Grüß Gott, Ægir\n");
    });
}

#[test]
fn a_script_that_says_nothing_of_it_is_started_under_control() {
    each_version(|version| {
        let script =
            "local level = 2\nlocal function rise(by)\n  level = level + by\n  return level\nend\nprint(rise(1))\n";
        let user = User::new(script);
        let start = |options: &[&str], commands: &str| {
            let mut start = user.prepared(command());
            start.env("ADZEMAN_MODULE", folder()).args(["start", "--with-module"]).args(options);
            let output = fed(start.args(["--batch", "-", "--", &format!("lua{version}"), "canal.lua"]), commands);
            assert!(output.status.success(), "{}{}", text(&output.stdout), text(&output.stderr));
            text(&output.stdout)
        };
        let shown = start(&[], "break at canal.lua:3\ngo\nlook level\nlet by = 40\nremove all\n");
        has(&shown, &["stopped by breakpoint 1, in rise", &whole("2", version), "by is now 40", "42"]);
        has(&start(&["--first"], "look stack\ngo over\n"), &["canal.lua:1", "3"]);
    });
}

#[test]
fn where_there_is_no_module_it_is_said_how_to_get_one() {
    let user = User::new("");
    let mut start = user.prepared(command());
    start.env("ADZEMAN_MODULE", user.0.path()).args(["start", "--with-module", "--", "lua5.4", "canal.lua"]);
    let output = start.output().unwrap();
    assert_eq!(output.status.code(), Some(3));
    has(&text(&output.stderr), &["there is no module in", "assemble FOLDER", "ADZEMAN_MODULE=FOLDER"]);
}

#[test]
fn what_is_set_at_the_head_of_a_file_is_set_before_the_first_line_runs() {
    each_version(|version| {
        // Over in a moment.
        let user = User::new("local level = 2\nprint(level)\n");
        let start = |commands: &str| {
            let mut start = user.prepared(command());
            start.env("ADZEMAN_MODULE", folder()).args(["start", "--with-module", "--batch", "-", "--"]);
            fed(start.args([&format!("lua{version}"), "canal.lua"]), commands)
        };
        for _ in 0..10 {
            let shown = text(&start("break at canal.lua:2\nbreaks\n\ngo\nlet level = 40\n").stdout);
            has(&shown, &["stopped by breakpoint 1", "level is now 40", "| 40"]);
        }
        // Whatever fails there, the program runs.
        for commands in ["", "break at canal.lua:2 when\n", "nonsense\n"] {
            has(&text(&start(commands).stdout), &["| 2"]);
        }
    });
}
