//! Frames, scopes and values, and that looking runs nothing of the script.

use crate::common::{at_stop, inside, scope, shown};
use adzeman_core::engine::{Engine, FrameKind, ScopeKind};
use adzeman_core::value::{Expand, Page, Part};

fn locals(engine: &mut dyn Engine) -> String {
    let variables = scope(engine, 0, ScopeKind::Locals);
    shown(&variables)
}

#[test]
fn locals_have_their_names_and_an_unassigned_one_is_absent() {
    let script = "local a = 1\nlocal b = 2.0 --stop\nlocal c = 3\nreturn b";
    assert_eq!(at_stop(script, locals), "a = 1");
}

#[test]
fn a_shadowed_local_is_marked() {
    let script = "local a = 1\ndo\n  local a = 'x'\n  local b = true\n  print(b) --stop\nend";
    assert_eq!(at_stop(script, locals), "(a = 1); a = \"x\"; b = true");
}

#[test]
fn captured_varargs_and_globals_are_told_apart() {
    let script =
        "mark = 7\nlocal toll = 24\nlocal function f(x, ...)\n  return x + toll --stop\nend\nreturn f(1, 'two', nil)";
    let text = at_stop(script, |engine| {
        let text = |engine: &mut dyn Engine, kind| shown(&scope(engine, 0, kind));
        let globals = scope(engine, 0, ScopeKind::Globals);
        assert!(globals.iter().any(|variable| variable.name == "mark" && variable.value.preview == "7"));
        [ScopeKind::Locals, ScopeKind::Varargs, ScopeKind::Captured].map(|kind| text(engine, kind)).join(" | ")
    });
    assert_eq!(text, "x = 1 | [1] = \"two\"; [2] = nil | toll = 24");
}

#[test]
fn the_stack_names_functions_and_native_callers() {
    let script = "local function inner() \n  return 1 --stop\nend\nlocal function outer()\n  local ok = pcall(inner)\n  return ok\nend\nlocal r = outer()\nreturn r";
    let frames = at_stop(script, |engine| {
        let page = engine.frames(Page::first(20)).unwrap();
        let line = |frame: &adzeman_core::engine::Frame| frame.place.map_or(0, |place| place.line.get());
        page.items.iter().map(|frame| (frame.kind, frame.name.clone(), line(frame))).collect::<Vec<_>>()
    });
    let lines: Vec<_> = frames.iter().map(|(kind, _, line)| (*kind, *line)).collect();
    let script_frame = |line| (FrameKind::Script, line);
    assert_eq!(lines, [script_frame(2), (FrameKind::Native, 0), script_frame(5), script_frame(8)]);
    assert_eq!(frames[2].1, "outer");
}

#[test]
fn a_coroutine_shows_its_resumer_behind_a_boundary() {
    for start in ["coroutine.wrap(f)()", "coroutine.resume(coroutine.create(f))"] {
        let script = format!(
            "local function f()\n  local deep = 1\n  return deep --stop\nend\nlocal up = 5\n{start}\nreturn up"
        );
        let (frames, outer) = at_stop(&script, |engine| {
            let page = engine.frames(Page::first(20)).unwrap();
            let kinds: Vec<_> = page.items.iter().map(|frame| frame.kind).collect();
            let outer = page.items.len() - 1;
            (kinds, shown(&scope(engine, outer, ScopeKind::Locals)))
        });
        assert_eq!(frames, [FrameKind::Script, FrameKind::Boundary, FrameKind::Native, FrameKind::Script], "{start}");
        assert!(outer.contains("up = 5"), "{outer}");
    }
}

#[test]
fn a_suspended_coroutine_opens_to_its_own_stack() {
    let script = "local co = coroutine.create(function(x)\n  local kept = x\n  coroutine.yield()\n  return kept\nend)\ncoroutine.resume(co, 42)\nreturn co --stop";
    let text = at_stop(script, |engine| {
        let frames = inside(engine, "co", Part::All, Page::first(9));
        let text = frames.iter().map(|frame| frame.value.preview.clone()).collect::<Vec<_>>().join(" ");
        let Some(Expand::Engine(handle)) = frames[1].value.children.clone().map(|children| children.expand) else {
            panic!("the script's frame opens")
        };
        let page = engine.children(handle, Part::All, Page::first(9)).unwrap();
        format!("{text} | {}", shown(&page.items))
    });
    assert_eq!(text, "[C] test.lua:3 | x = 42; kept = 42");
}

#[test]
fn tables_are_ordered_paged_and_counted() {
    let script = "local t = {10, 20, 30, b = 1, a = 2, [2.5] = 'x', [true] = 0}\nreturn t --stop";
    let (preview, first, second, counts) = at_stop(script, |engine| {
        let value = engine.evaluate(Some(0), "t").unwrap().remove(0);
        let children = value.children.clone().unwrap();
        (
            value.preview,
            shown(&inside(engine, "t", Part::All, Page::first(5))),
            shown(&inside(engine, "t", Part::All, Page { start: 5, count: 5 })),
            (children.indexed, children.named, children.named_is_all),
        )
    });
    assert_eq!(preview, "{10, 20, 30, [2.5] = \"x\", a = 2, b = 1, [true] = 0}");
    assert_eq!(first, "[1] = 10; [2] = 20; [3] = 30; [2.5] = \"x\"; a = 2");
    assert_eq!(second, "b = 1; [true] = 0");
    assert_eq!(counts, (3, 4, true));
}

#[test]
fn a_million_entries_show_their_first_page_and_their_last() {
    let script = "local t = {}\nfor i = 1, 1000000 do t[i] = i end\nt.name = 'big'\nreturn t --stop";
    let (preview, page, named) = at_stop(script, |engine| {
        let preview = engine.evaluate(Some(0), "t").unwrap().remove(0).preview;
        let page = inside(engine, "t", Part::Indexed, Page { start: 999_998, count: 10 });
        (preview, shown(&page), shown(&inside(engine, "t", Part::Named, Page::first(10))))
    });
    assert_eq!(preview, "{1, 2, 3, 4, 5, 6, 7, 8, … 1000000 in all, name = \"big\"}");
    assert_eq!(page, "[999999] = 999999; [1000000] = 1000000");
    assert_eq!(named, "name = \"big\"");
}

#[test]
fn cycles_huge_strings_and_bytes_show_as_what_they_are() {
    let script =
        "local t = {}\nt.self = t\nlocal s = string.rep('x', 50000000)\nlocal b = 'a\\255\\0b'\nreturn t, s, b --stop";
    let text = at_stop(script, |engine| {
        let again = shown(&inside(engine, "t.self.self.self", Part::All, Page::first(5)));
        let variables = scope(engine, 0, ScopeKind::Locals);
        assert!(variables[1].value.preview.len() < 200);
        assert!(variables[1].value.preview.ends_with("(50000000 bytes)"));
        format!("{again} {}", variables[2].value.preview)
    });
    assert_eq!(text, r#"self = {self = {…}} "a\xff\u{0}b""#);
}

#[test]
fn looking_runs_no_metamethod() {
    let script = "\
calls = 0
local function count() calls = calls + 1; error('looked') end
local function forever() while true do calls = calls + 1 end end
local meta = {__index = forever, __tostring = count, __len = count, __pairs = forever, __name = 'trap', __eq = count}
local trap = setmetatable({1, 2, x = 3}, meta)
local own = {}; setmetatable(own, own); own.__index = own
return trap, own --stop";
    let (text, calls) = at_stop(script, |engine| {
        let variables = scope(engine, 0, ScopeKind::Locals);
        let trap = variables.iter().find(|variable| variable.name == "trap").unwrap().clone();
        let Some(Expand::Engine(handle)) = trap.value.children.map(|children| children.expand) else { panic!() };
        let page = engine.children(handle, Part::All, Page::first(10)).unwrap();
        (shown(&page.items[..3]), engine.evaluate(Some(0), "calls").unwrap().remove(0).preview)
    });
    assert_eq!(text, "[1] = 1; [2] = 2; x = 3");
    assert_eq!(calls, "0");
}

#[test]
fn a_handle_of_an_earlier_stop_is_refused() {
    let script = "local t = {1}\nlocal u = t --stop\nreturn u --stop";
    let mut handle = None;
    crate::common::run(script, move |engine, _| {
        match handle {
            None => handle = engine.scopes(0).unwrap().first().map(|scope| scope.handle),
            Some(old) => {
                let error = engine.children(old, Part::All, Page::first(1)).unwrap_err();
                assert!(error.to_string().contains("earlier stop"), "{error}");
            }
        }
        crate::common::Go::Freely
    });
}
