//! Scripts that cannot tell whether they are watched: the same text comes out of them, watched in every way, as of an
//! engine that nobody ever watched.

use crate::common::{Go, run, run_with};
use crate::ffi::lua_with_debug;
use crate::versions::{adapted, by_short_names};
use adzeman_core::breakpoint::{BreakpointSpec, Site};
use adzeman_core::source::Line;
use adzeman_core::stepping::StepKind;

/// Each returns a text of all that it saw.
const SCRIPTS: [(&str, &str); 9] = [
    (
        "protected calls",
        "\
local log = {}
local function note(...) for i = 1, select('#', ...) do log[#log + 1] = tostring((select(i, ...))) end end
note(pcall(error)) note(pcall(error, nil)) note(pcall(error, 'a', 0)) note(pcall(error, 'a', 2))
return table.concat(log, ' ')",
    ),
    (
        "arguments and results",
        "\
local log = {}
local function note(...) log[#log + 1] = select('#', ...) for i = 1, select('#', ...) do log[#log + 1] = tostring((select(i, ...))) end end
note(pcall(function(...) return ... end, 1, nil, 'x', nil))
note(xpcall(function(...) return select('#', ...) end, print, nil, nil))
note(pcall(pcall)) note(pcall(xpcall)) note(pcall(xpcall, print)) note(pcall(coroutine.resume)) note(pcall(coroutine.resume, 5))
note(pcall(coroutine.wrap)) note(pcall(coroutine.wrap, {}))
return table.concat(log, ' ')",
    ),
    (
        "tracebacks",
        "\
local function f() return debug.traceback('here') end
local function g() return (f()) end
local ok, text = pcall(g)
local _, handled = xpcall(function() error('x') end, debug.traceback)
local co = coroutine.create(function() local t; t.x = 1 end)
coroutine.resume(co)
return text .. handled .. debug.traceback(co)",
    ),
    (
        "hooks of its own",
        "\
local log = {}
for _, given in ipairs({{1, 'l'}, {print}, {print, 'l', 'x'}, {nil}, {print, {}}}) do
  local _, why = pcall(debug.sethook, table.unpack(given, 1, 3))
  log[#log + 1] = tostring(why)
end
log[#log + 1] = tostring(debug.gethook()) .. select('#', debug.gethook())
local co = coroutine.create(function() end)
debug.sethook(co, print, 'lc', 7)
local hook, mask, count = debug.gethook(co)
log[#log + 1] = tostring(hook == print) .. mask .. count
debug.sethook(co)
log[#log + 1] = tostring(debug.gethook(co))
return table.concat(log, ' ')",
    ),
    (
        "yields across protected calls",
        "\
local log = {}
local co = coroutine.wrap(function(...)
  log[#log + 1] = select('#', ...)
  local ok, a, b = pcall(function() return coroutine.yield(1), 'b' end)
  log[#log + 1] = tostring(ok) .. tostring(a) .. tostring(b)
  local ok, e = xpcall(function() coroutine.yield(2) error('late', 0) end, function(m) return m .. '!' end)
  log[#log + 1] = tostring(ok) .. e
  local ok, e = pcall(function() coroutine.yield(3) local t; return t.x end)
  log[#log + 1] = e
  return 'done'
end)
for i = 1, 4 do log[#log + 1] = tostring((select(2, pcall(co, i)))) end
log[#log + 1] = select(2, pcall(co))
return table.concat(log, ' ')",
    ),
    (
        "coroutines and what they leave open",
        "\
local log = {}
local function closing(name) return setmetatable({}, {__close = function(_, e) log[#log + 1] = name .. tostring(e) end}) end
local co = coroutine.create(function() local a <close> = closing('a') error('x', 0) end)
log[#log + 1] = tostring(coroutine.resume(co)) .. coroutine.status(co)
log[#log + 1] = tostring(coroutine.close(co)) --since 5.4
local wrapped = coroutine.wrap(function() local b <close> = closing('b') error({}) end)
log[#log + 1] = type(select(2, pcall(wrapped)))
local inner = coroutine.create(function() return coroutine.resume(coroutine.running()) end)
log[#log + 1] = tostring(select(3, coroutine.resume(inner)))
log[#log + 1] = tostring(select(2, coroutine.resume(inner)))
log[#log + 1] = tostring(coroutine.isyieldable()) --since 5.3
return table.concat(log, ' ')",
    ),
    (
        "hooks and levels of the script itself",
        "\
local lines = {}
local info = debug.getinfo(pcall)
lines[#lines + 1] = info.what .. info.short_src
lines[#lines + 1] = info.nparams .. tostring(info.isvararg) --since 5.2
lines[#lines + 1] = tostring(debug.getinfo(1, 'l').currentline) .. debug.getinfo(1, 'S').short_src
local function level() return debug.getinfo(2, 'n').name end
local function named() local name = level() return name end
lines[#lines + 1] = tostring(named())
local n = 0
for i = 1, 200 do n = n + #string.rep('x', i) end
lines[#lines + 1] = n
local sorted = {5, 3, 1}
table.sort(sorted, function(a, b) return a < b end)
lines[#lines + 1] = table.concat(sorted)
return table.concat(lines, ' ')",
    ),
    (
        "what functions are",
        "\
local log = {}
local function f(a, b, ...)
  local x <const> = a;
  goto on --since 5.2
  ::on:: ; --since 5.2
  (print or f)()
  return x, b, select('#', ...)
end
local lines = {}
for line in pairs(debug.getinfo(f, 'L').activelines) do lines[#lines + 1] = line end
table.sort(lines)
log[#log + 1] = table.concat(lines, ',')
local info = debug.getinfo(f, 'Su')
log[#log + 1] = info.linedefined .. info.lastlinedefined .. info.nups .. info.nparams .. tostring(info.isvararg) --since 5.2
log[#log + 1] = debug.getlocal(f, 1) .. debug.getlocal(f, 2) .. tostring(debug.getlocal(f, 3)) --since 5.2
local weak = setmetatable({[f] = 'kept'}, {__mode = 'k'})
do local g = function() return weak end weak[g] = 'gone' end
collectgarbage() collectgarbage()
local n = 0
for _ in pairs(weak) do n = n + 1 end
log[#log + 1] = n .. tostring(weak[f])
log[#log + 1] = tostring((select(4, pcall(f, 1, 2, 3, nil))))
log[#log + 1] = tostring(debug.upvalueid(f, 1) ~= nil) --since 5.2
local ok, why = pcall(function()
  local t
  return t.x
end)
log[#log + 1] = why
return table.concat(log, ' ')",
    ),
    (
        "deep recursion and tail calls",
        "\
local function count(n) if n == 0 then return 'end' end return count(n - 1) end
local function deep(n) if n == 0 then return 0 end return 1 + deep(n - 1) end
local ok, why = pcall(function() local function f(n) if n == 0 then error('deep') end return 1 + f(n - 1) end return f(3000) end)
return count(20000) .. deep(5000) .. tostring(ok) .. why",
    ),
];

fn plain(script: &str) -> String {
    lua_with_debug().load(adapted(script)).set_name("@test.lua").call(()).unwrap()
}

fn never(line: u32) -> BreakpointSpec {
    let site = Site::Line { path: "test.lua".into(), line: Line::new(line).unwrap() };
    BreakpointSpec { condition: Some("false".into()), ..BreakpointSpec::at(site) }
}

#[track_caller]
fn check(name: &str, script: &str, watched_by: Vec<BreakpointSpec>, go: fn() -> Go) {
    let ran = run_with(script, watched_by, move |_, _| go());
    let text: String = mlua::FromLua::from_lua(ran.outcome.unwrap(), &ran.lua).unwrap();
    assert_eq!(by_short_names(&text), by_short_names(&plain(script)), "{name}");
}

#[test]
fn with_a_breakpoint_on_every_line() {
    for (name, script) in SCRIPTS {
        check(name, script, (1..30).map(never).collect(), || Go::Freely);
    }
}

#[test]
fn while_errors_are_waited_for() {
    for (name, script) in SCRIPTS {
        let errors = BreakpointSpec::at(Site::Error { every: true, containing: None });
        check(name, script, vec![errors], || Go::Freely);
    }
}

#[test]
fn step_by_step() {
    for (name, script) in SCRIPTS.iter().filter(|(name, _)| *name != "deep recursion and tail calls") {
        let first = BreakpointSpec::at(Site::Line { path: "test.lua".into(), line: Line::FIRST });
        check(name, script, vec![first], || Go::Step(StepKind::Into));
    }
}

#[test]
fn with_nothing_to_watch() {
    for (name, script) in SCRIPTS {
        check(name, script, Vec::new(), || Go::Freely);
    }
}

#[test]
fn a_hook_of_the_script_s_own_sees_the_same_whatever_is_armed() {
    let script = "\
local seen = {}
local function step(x)
  for i = 1, 2 do x = x + i end
  local y = x
  return y
end
local function note(event, line) seen[#seen + 1] = event .. ' ' .. tostring(line) end
local function round()
  step(1)
  local co = coroutine.create(function() return step(2) end)
  debug.sethook(co, note, 'l')
  coroutine.resume(co)
  local hook, mask, count = debug.gethook()
  seen[#seen + 1] = tostring(hook == note) .. mask .. count
end
for _, mask in ipairs { 'l', 'crl', 'c' } do
  for _, lines in ipairs { {}, { 3 }, { 4 }, { 3, 4, 5 }, {}, { 4 }, { 3 }, {} } do
    rearm(lines)
    debug.sethook(note, mask)
    round()
    debug.sethook()
    seen[#seen + 1] = tostring(debug.gethook())
  end
  -- Lines are seen, too, while others are armed and none.
  debug.sethook(note, 'l')
  for _, lines in ipairs { {}, { 3 }, { 4 }, { 3, 4, 5 }, {} } do
    rearm(lines)
    round()
  end
  debug.sethook()
end
return table.concat(seen, '; ')";
    let lua = crate::ffi::lua_with_debug();
    lua.globals().set("rearm", lua.create_function(|_, _: mlua::MultiValue| Ok(())).unwrap()).unwrap();
    let expected: String = lua.load(script).set_name("@test.lua").call(()).unwrap();
    let ran = run(script, |_, _| Go::Freely);
    let seen = match &ran.outcome {
        Ok(mlua::Value::String(seen)) => seen.to_string_lossy(),
        other => panic!("{other:?}"),
    };
    let at = seen.bytes().zip(expected.bytes()).take_while(|(one, other)| one == other).count();
    let near =
        |text: &str| text.get(at.saturating_sub(120)..).unwrap_or_default().chars().take(240).collect::<String>();
    assert_eq!(seen, expected, "{} and {}", near(&seen), near(&expected));
    assert!(ran.stops.len() > 20, "{}", ran.stops.len());
}
