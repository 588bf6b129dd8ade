//! Guides: which functions of a program are the handlers of which events.

use std::fs;
use std::io::Write as _;

use crate::user::{Program, User, each_version, has, text};

/// A game of a canal, and passages that are saved.
const GAME: &str = r#"local adzeman = require "adzeman"
is_open = true
game = { boats = 2 }

function game.update(dt)
  game.at = (game.at or 0) + dt
  return game.boats, nil, dt
end

function game.draw_map() return "map" end
function game.draw_boats() return "boats" end

local wide = {}
for number = 1, 40 do wide["name" .. number] = number end
local crates = {}
for number = 1, 40 do crates[number] = number end
function game.load_cargo() return "loaded" end

local handlers = {}
function on(what, handler)
  handlers[what] = handler
end
function off(handler)
  for what, held in pairs(handlers) do
    if held == handler then handlers[what] = nil end
  end
end

local function save(passage, length)
  local toll = 10 + length
  if length > 90 then error({ passage = passage }) end
  return toll
end
on("save", save)
on("load", function(passage) return passage end)

local function between(passage)
  return passage + 1
end

local waiting = coroutine.wrap(function()
  while true do
    game.wait_for("water")
  end
end)
function game.wait_for(what)
  coroutine.yield(what)
end

local passage = 0
local until_then = os.time() + 300
while is_open and os.time() < until_then do
  local boats, none, dt = game.update(0.5)
  assert(boats == 2 and none == nil and dt == 0.5)
  game.draw_map()
  game.load_cargo(("x"):rep(70000), crates, { lock = "upper" }, { { { { {} } } } }, print, nil, wide)
  game.draw_boats()
  passage = between(passage)
  assert(handlers.save(passage, 24) == 34 and handlers.load(passage) == passage)
  local ok, why = pcall(handlers.save, passage, 99)
  assert(not ok and why.passage == passage)
  passage = between(passage)
  waiting()
  passage = between(passage)
end
off(save)
print("ended", handlers.save, rawequal(game.update, game.update))
"#;

const GUIDE: &str = r#"local adzeman = ...
adzeman.event("frame.update", "game", "update", { "dt" })
adzeman.event("map.drawn", "game", "draw_*")
adzeman.event("record.save", "_G", "on", { "passage", "length", callback = 2, when = "save", subject = "passage", undo = "off" })
adzeman.event("record.load", "_G", "on", { "passage", callback = 2, when = function(what) return what == "load" end })
adzeman.event("record.read", "_G", "on", { callback = 2, when = "load" })
adzeman.event("water.awaited", "game", "wait_for", { "what", subject = function(what) return what:upper() end })
adzeman.event("cargo.loaded", "game", "load_cargo", { "text", "list", "names", "deep", "call", "none", "wide" })
adzeman.event("never.raised", "game.screens.lock", "shown")
"#;

/// A person with a game and its guide.
fn user(guide: &str) -> User {
    let user = User::new(GAME);
    let folder = user.0.path().join("adzeman/guides");
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("canal.lua"), guide).unwrap();
    user
}

fn started(user: &User, version: &str) -> Program {
    user.start(version, "dormant")
}

/// Has the game end, and answers what it has printed.
fn ended(user: &User, program: Program) -> String {
    let output = user.session("break on frame.update\ngo\nremove all\nlet is_open = false\n");
    has(&text(&output.stdout), &["is_open is now false"]);
    let ended = program.ended();
    assert!(ended.status.success(), "{}", text(&ended.stderr));
    assert_eq!(text(&ended.stderr), "");
    text(&ended.stdout)
}

#[test]
fn calls_that_a_guide_names_are_events() {
    each_version(|version| {
        let user = user(GUIDE);
        let program = started(&user, version);
        let shown = user.attached(
            "break on frame.update when event.dt > 0.4\ngo\nlook event.dt\nlook stack\ngo over\ngo out\nremove all\n\
             break on map.drawn for draw_boats\ngo\nlook stack\nremove all\n\
             break on record.save when event.length == 99\ngo\nlook event.passage\nlook stack\nremove all\n\
             break on record.read\ngo\nlook stack\nremove all\n\
             break on cargo.loaded\ngo\nlook event.text\nlook event.list\nlook event.names\nlook event.deep\nlook event.call\n\
             look event.none\nlook event.wide\nremove all\n\
             break on water.awaited for WATER\ngo\nlook event.subject\nremove all\n",
        );
        has(
            &shown,
            &[
                "frame.update  map.drawn",
                "never.raised",
                "stopped by breakpoint 1, in game.update",
                "during frame.update   dt 0.5",
                "canal.lua:6\n    1  frame.update, raised by canal",
                "canal:7",
                "done with frame.update",
                "in game.draw_boats",
                "map.drawn of draw_boats, raised by canal",
                "stopped by breakpoint 3, in save",
                "canal.lua:30\n    1  record.save of ",
                "canal.lua:35\n    1  record.read, raised by canal",
                "record.load, raised by canal",
                "(a text of 70000 bytes)",
                "(8 more)",
                "\"upper\"",
                "(table)",
                "(function)",
                "null",
                "(there are more)",
                "\"WATER\"",
            ],
        );
        assert_eq!(ended(&user, program), "ended\tnil\ttrue\n");
    });
}

#[test]
fn an_event_is_over_where_its_function_was_left_by_an_error_or_a_yield() {
    each_version(|version| {
        let user = user(GUIDE);
        let program = started(&user, version);
        // The three calls of `between` in a round: behind a return, behind an error that was caught, behind a yield.
        let shown = user.attached(
            "break at canal.lua:38\ngo\nlook stack\ngo\nlook stack\ngo\nlook stack\ngo\nlook stack\nremove all\n\
             trail last 30\n",
        );
        let stacks: Vec<&str> =
            shown.split("look stack").skip(1).map(|part| part.split("\n\n").next().unwrap()).collect();
        assert_eq!(stacks.len(), 4, "{shown}");
        stacks.iter().for_each(|stack| assert!(!stack.contains("raised by"), "{stack}"));
        assert!(!shown.contains("during "), "{shown}");
        has(&shown, &["record.save", "failed", "water.awaited", "frame.update"]);
        ended(&user, program);
    });
}

/// The script alone, with a guide that is told in it and a trail that is kept, so that someone wants to know of its events.
fn kept(version: &str, script: &str) -> String {
    let user = User::new(&format!("local adzeman = require 'adzeman'\n{script}"));
    let output = user.interpreter(version).env("ADZEMAN_TRAIL", "keep").output().unwrap();
    assert!(output.status.success(), "{version}: {}{}", text(&output.stdout), text(&output.stderr));
    assert_eq!(text(&output.stderr), "", "{version}");
    text(&output.stdout)
}

#[test]
fn what_is_handed_over_and_raised_stays_what_it_is_whatever_that_is() {
    each_version(|version| {
        let shown = kept(
            version,
            r#"
            local strange = setmetatable({}, { __tostring = function() error("no text") end })
            game = {}
            function game.pass(what) if what == strange then error(strange, 0) end return what end
            function game.fail(what) error(what, 0) end
            adzeman.event("passed", "game", "pass", { "what", subject = "what", payload = function(what) return { [what] = what } end })
            adzeman.event("failed", "game", "fail", { "what", subject = "what" })
            adzeman.open { listen = "dormant" }
            local binary = "Schleuse \252\255\0 \200"
            print(game.pass(binary) == binary, game.pass("水位") == "水位", game.pass(1/0) == 1/0)
            local ok, why = pcall(game.pass, strange)
            print(ok, rawequal(why, strange))
            ok, why = pcall(game.fail, binary)
            print(ok, why == binary)
            ok, why = pcall(game.fail, nil)
            print(ok, why)
            "#,
        );
        assert_eq!(shown, "true\ttrue\ttrue\nfalse\ttrue\nfalse\ttrue\nfalse\tnil\n", "{version}");
    });
}

#[test]
fn functions_that_a_program_lets_go_of_are_let_go_of() {
    each_version(|version| {
        let shown = kept(
            version,
            r#"
            timers = {}
            function timers.add(after, due) due() end
            adzeman.event("timer.due", "timers", "add", { callback = 2 })
            adzeman.open { listen = "dormant" }
            local function rounds(count)
              for number = 1, count do timers.add(1, function() return number end) end
              collectgarbage() collectgarbage()
              return collectgarbage("count")
            end
            local before = rounds(2000)
            print(rounds(20000) - before < 500)
            "#,
        );
        assert_eq!(shown, "true\n", "{version}");
    });
}

#[test]
fn a_script_that_ends_by_an_error_in_an_event_ends_as_it_would() {
    each_version(|version| {
        let user = User::new(
            r#"local adzeman = require "adzeman"
is_dry = false
game = {}
function game.update(dt)
  if is_dry then error("no water") end
end
local until_then = os.time() + 300
while os.time() < until_then do
  game.update(0.5)
end
"#,
        );
        let mut interpreter = user.interpreter(version);
        fs::write(
            user.0.path().join("dry.lua"),
            "local adzeman = ...\nadzeman.event('frame.update', 'game', 'update', { 'dt' })\n",
        )
        .unwrap();
        interpreter.env("ADZEMAN", "dormant").env("ADZEMAN_GUIDE", "dry.lua");
        let program = Program(Some(interpreter.spawn().unwrap()));
        user.await_host(version);
        // Somebody is attached while it ends.
        let shown = text(&user.session("break on frame.update\ngo\nremove all\nlet is_dry = true\ngo\n").stdout);
        has(&shown, &["is_dry is now true"]);
        let output = program.ended();
        assert_eq!(output.status.code(), Some(1), "{}", text(&output.stderr));
        has(&text(&output.stderr), &["canal.lua:5: no water", "stack traceback"]);
        assert!(user.hosts().is_empty());
    });
}

#[test]
fn functions_that_come_later_or_are_replaced_are_met() {
    each_version(|version| {
        let user = User::new(
            r#"local adzeman = require "adzeman"
is_open = true
local until_then = os.time() + 300
game = {}
game.screens = { lock = {} }
is_redrawn = false
function game.screens.lock:shown(by)
  if is_redrawn then
    -- Another one from the next time on.
    game.screens.lock.shown = function(self, by)
      return by + 1
    end
  end
  return by
end
while is_open and os.time() < until_then do
  game.screens.lock:shown(6)
end
assert(getmetatable(_G) == nil and getmetatable(game) == nil and getmetatable(game.screens.lock) == nil)
adzeman.close()
local shown = game.screens.lock.shown
print("ended", debug.getinfo(shown, "S").linedefined)
"#,
        );
        let guide = user.0.path().join("screens.lua");
        fs::write(
            &guide,
            "local adzeman = ...\nadzeman.event('lock.shown', 'game.screens.lock', 'shown', { 'by', method = true })\n",
        )
        .unwrap();
        let mut interpreter = user.interpreter(version);
        interpreter.env("ADZEMAN", "dormant").env("ADZEMAN_GUIDE", "screens.lua");
        let program = Program(Some(interpreter.spawn().unwrap()));
        user.await_host(version);
        let shown = user
            .ended("break on lock.shown\ngo\nlook event\nlet is_redrawn = true\ngo\nremove all\nlet is_open = false\n");
        has(&shown, &["stopped by breakpoint 1", "during lock.shown   by 6", "canal:8", "canal:11"]);
        let output = program.ended();
        assert!(output.status.success(), "{}", text(&output.stderr));
        assert_eq!(text(&output.stdout), "ended\t10\n");
    });
}

#[test]
fn trouble_with_a_guide_is_said_and_harms_nobody() {
    each_version(|version| {
        let user = User::new(
            "local adzeman = require 'adzeman'
            print(pcall(adzeman.event, 'x', 'game', 7))
            print(pcall(adzeman.event, 'x', 'game', 'update', { sbject = 'dt' }))
            print(pcall(adzeman.event, 'x', 'game', 'update', { subject = 'dt' }))
            print(pcall(adzeman.event, 'x', 'game', 'on_*', { callback = 1 }))
            game = { update = function(...) return ... end }
            local update = game.update
            adzeman.event('frame.update', game, 'update')
            print(game.update == update, adzeman.open { listen = 'dormant' })
            print(game.update == update, game.update(1, nil, 3))
            print(pcall(adzeman.event, 'frame.drawn', game, 'draw'))
            print(adzeman.close(), game.update == update)",
        );
        let folder = user.0.path().join("adzeman/guides");
        fs::create_dir_all(&folder).unwrap();
        fs::write(
            folder.join("canal.lua"),
            "local adzeman = ...\nadzeman.event('frame.resized', 'game', 'resize')\nnothing()\n",
        )
        .unwrap();
        let output = user.interpreter(version).output().unwrap();
        assert!(output.status.success(), "{}", text(&output.stderr));
        has(&text(&output.stderr), &["the guide adzeman/guides/canal.lua could not be read to its end", "canal.lua:3"]);
        has(
            &text(&output.stdout),
            &[
                "the name of the function is a text; it is called as in adzeman.event(",
                "there is no option 'sbject'; there are",
                "the subject 'dt' is not among the arguments that are named",
                "a function that is given callbacks has one name",
                "true\tcanal\n",
                "false\t1\tnil\t3\n",
                "'frame.drawn' is not among the kinds of events that this program has told of when it was opened",
                "true\ttrue\n",
            ],
        );
        let named = user.interpreter(version).env("ADZEMAN", "dormant").env("ADZEMAN_GUIDE", "nowhere.lua").output();
        has(&text(&named.unwrap().stderr), &["there is no guide nowhere.lua, which ADZEMAN_GUIDE names"]);
    });
}

#[cfg(unix)]
#[test]
fn a_guide_of_another_user_is_not_read() {
    use std::os::unix::fs::chown;
    let user = User::new("local adzeman = require 'adzeman' print(adzeman.open { listen = 'dormant' })");
    let folder = user.0.path().join("adzeman/guides");
    fs::create_dir_all(&folder).unwrap();
    let guide = folder.join("canal.lua");
    write!(fs::File::create(&guide).unwrap(), "os.exit(7)").unwrap();
    if chown(&guide, Some(1), None).is_err() {
        eprintln!("left out: only the system's user can give files away");
        return;
    }
    each_version(|version| {
        let output = user.interpreter(version).output().unwrap();
        assert!(output.status.success());
        has(&text(&output.stderr), &["is not read: it, or a folder that it is in, belongs to another user"]);
        assert_eq!(text(&output.stdout), "canal\n");
    });
    chown(&guide, Some(0), None).unwrap();
    chown(&folder, Some(1), None).unwrap();
    each_version(|version| assert!(user.interpreter(version).output().unwrap().status.success()));
}
