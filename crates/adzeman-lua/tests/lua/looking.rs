//! Frames, scopes and values, and that looking runs nothing of the script.

use crate::common::{at_stop, inside, scope, shown};
use crate::versions::is_since;
use adzeman_core::engine::{Engine, FrameKind, ScopeKind};
use adzeman_core::value::{Expand, Page, Part, Variable};

fn evaluated(engine: &mut dyn Engine, text: &str) -> String {
    engine.evaluate(Some(0), text).unwrap().remove(0).preview
}

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
        // `rearm` is what the host of these tests gives to scripts.
        let own = scope(engine, 0, ScopeKind::Globals);
        assert_eq!(own.iter().map(|variable| &*variable.name).collect::<Vec<_>>(), ["mark", "rearm"]);
        let built_in = scope(engine, 0, ScopeKind::BuiltIns);
        assert!(["print", "string", "_G", "debug"].iter().all(|name| built_in.iter().any(|held| held.name == *name)));
        [ScopeKind::Locals, ScopeKind::Varargs, ScopeKind::Captured].map(|kind| text(engine, kind)).join(" | ")
    });
    // A function that does not use its extra arguments has a table of them there.
    let table = if is_since("5.2") { "" } else { "; arg = {\"two\", n = 2}" };
    assert_eq!(text.replace(table, ""), "x = 1 | [1] = \"two\"; [2] = nil | toll = 24");
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
    assert_eq!(text, "yield at [C] test.lua:3 | x = 42; kept = 42");
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
    assert_eq!(text, "self = {self = itself} bytes 61 ff 00 62");
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

#[test]
fn a_built_in_that_a_script_replaced_is_its_own() {
    let script = "function print() end\nreturn 1 --stop";
    let names = at_stop(script, |engine| {
        let own = scope(engine, 0, ScopeKind::Globals);
        own.into_iter().map(|variable| variable.name).collect::<Vec<_>>()
    });
    assert_eq!(names, ["print", "rearm"]);
}

#[test]
fn entries_have_expressions_that_give_them() {
    let script = "local t = {10, word = 1, ['two words'] = 2, ['end'] = 3, [2.5] = 4, [true] = 5}\nreturn t --stop";
    let given = at_stop(script, |engine| {
        let entries = inside(engine, "t", Part::All, Page::first(9));
        let give = |entry: &Variable| format!("t{}", entry.evaluate_name.clone().unwrap());
        let given: Vec<_> = entries.iter().map(|entry| evaluated(engine, &give(entry))).collect();
        (shown(&entries), given.join(" "))
    });
    assert_eq!(given.0, "[1] = 10; [2.5] = 4; [\"end\"] = 3; [\"two words\"] = 2; word = 1; [true] = 5");
    assert_eq!(given.1, "10 4 3 2 1 5");
}

/// Whether numbers are of two kinds.
const HAS_INTEGERS: bool = !cfg!(any(feature = "lua51", feature = "lua52"));

/// Values that lie, or attack whoever looks at them: what makes them, and how they show.
const HOSTILE: [(&str, &str); 16] = [
    ("setmetatable({}, {__index = function() error('looked') end})", "{}"),
    ("setmetatable({1}, {__index = function() while true do end end, __len = error})", "{1}"),
    ("(function() local t = {a = 1}; return setmetatable(t, {__pairs = function() t.b = 2 end}) end)()", "{a = 1}"),
    ("setmetatable({}, {__tostring = function() return 1 end, __name = 3})", "{}"),
    ("(function() local t = {}; return setmetatable(t, t) end)()", "{}"),
    ("(function() local t = {}; t[t] = t; return t end)()", "{[table 0x] = itself}"),
    ("(function() local t = {}; for i = 1, 100000 do t = {t} end; return t end)()", "{{{…}}}"),
    ("(function() local t = {}; for i = 1, 1000000 do t['k' .. i] = i end; return t end)()", "{k"),
    ("string.rep('x', 50000000)", "\"xxxxxxxx"),
    ("{[0/0 ~= 0/0 and 'nan'] = 0/0, [1/0] = -1/0}", "{[inf] = -inf, nan = nan}"),
    ("'\\255\\254 no text'", "\"\\xff\\xfe no text\""),
    ("'\\0\\1\\2\\255'", "bytes 00 01 02 ff"),
    ("setmetatable({}, {__mode = 'k'})", "{}"),
    ("math.mininteger or -2^63", "-9223372036854775808"),
    ("2^53", if HAS_INTEGERS { "9007199254740992.0" } else { "9007199254740992" }),
    ("{n = {n = {n = {}}}, [1] = {[1] = {}}}", "{{{…}}, n = {n = {…}}}"),
];

#[test]
fn values_that_lie_or_attack_show_as_what_they_are() {
    for (made, expected) in HOSTILE {
        let script = format!("local v = {made}\nlocal w = v --stop\nreturn w");
        let (preview, page) = at_stop(&script, |engine| {
            let value = scope(engine, 0, ScopeKind::Locals).remove(0).value;
            let inside = value.children.clone().map(|children| children.expand);
            let page = inside.map(|inside| match inside {
                Expand::Engine(handle) => engine.children(handle, Part::All, Page::first(1000)).unwrap(),
                Expand::Tree(_) => panic!("it is the script's"),
            });
            (value.preview, page)
        });
        // Addresses differ from run to run.
        let start: String = preview.chars().take(expected.len()).collect();
        assert!(start == expected || without_address(&preview) == expected, "{made}: {preview}");
        assert!(preview.chars().count() < 130, "{made}: {preview}");
        let shown: usize = page.map_or(0, |page| page.items.iter().map(|item| item.value.preview.len()).sum());
        assert!(shown < 1000 * 400, "{made}: a page of {shown} bytes");
    }
}

/// A preview without the digits of an address.
fn without_address(preview: &str) -> String {
    match preview.split_once(" 0x") {
        Some((before, after)) => {
            let rest = after.trim_start_matches(|c: char| c.is_ascii_hexdigit());
            format!("{before} 0x{rest}")
        }
        None => preview.to_owned(),
    }
}

#[test]
fn weak_tables_and_cycles_are_marked() {
    let script = "local a = {name = 'a'}\na.b = {back = a, twin = {}}\nlocal w = setmetatable({}, {__mode = 'kv'})\nreturn w --stop";
    let (type_name, cycles) = at_stop(script, |engine| {
        let locals = scope(engine, 0, ScopeKind::Locals);
        let open = |engine: &mut dyn Engine, variable: &Variable| {
            let Some(Expand::Engine(handle)) = variable.value.children.clone().map(|children| children.expand) else {
                panic!("{variable:?} has an inside")
            };
            engine.children(handle, Part::All, Page::first(9)).unwrap().items
        };
        let in_a = open(engine, &locals[0]);
        let in_b = open(engine, &in_a[0]);
        let cycles: Vec<_> = in_b.iter().map(|variable| (variable.name.clone(), variable.cycle)).collect();
        (locals[1].value.type_name.clone(), cycles)
    });
    assert_eq!(type_name, "table (weak keys and values)");
    assert_eq!(cycles, [("back".to_owned(), Some(2)), ("twin".to_owned(), None)]);
}

#[test]
fn pages_of_very_many_keys_go_on_where_the_last_one_ended() {
    let script =
        "local t = {}\nfor i = 1, 30000 do t['key' .. i] = i end\nlocal m = setmetatable(t, {})\nreturn m --stop";
    let (names, totals) = at_stop(script, |engine| {
        let value = engine.evaluate(Some(0), "t").unwrap().remove(0);
        let Some(Expand::Engine(handle)) = value.children.map(|children| children.expand) else { panic!() };
        let mut names = Vec::new();
        let mut totals = Vec::new();
        for start in (0..).step_by(1000) {
            let page = engine.children(handle, Part::All, Page { start, count: 1000 }).unwrap();
            totals.push((page.total, page.total_is_all));
            if page.items.is_empty() {
                break;
            }
            names.extend(page.items.into_iter().map(|variable| variable.name));
        }
        (names, totals)
    });
    assert_eq!(names[0], "(metatable)");
    let distinct: std::collections::HashSet<_> = names.iter().collect();
    assert_eq!((names.len(), distinct.len()), (30_001, 30_001));
    assert!(!totals[0].1 && totals[0].0 > 2_500, "the first page does not count them all: {:?}", totals[0]);
    assert_eq!(totals.last(), Some(&(30_001, true)));
}

#[test]
fn names_beside_a_long_sequence_are_all_found() {
    // The table has room for names when the sequence grows, so that its end lies among them.
    for length in [5_000, 60_000] {
        let script = format!(
            "local t = {{a = 1, b = 2, c = 3, d = 4, e = 5, f = 6, g = 7}}\nt.a = nil t.b = nil\nfor i = 1, {length} do t[i] = i end\nt.z = 1 t.y = 2\nreturn t --stop"
        );
        let names = at_stop(&script, |engine| {
            let page = inside(engine, "t", Part::Named, Page::first(100));
            let mut names: Vec<_> = page.into_iter().map(|variable| variable.name).collect();
            names.sort();
            names
        });
        assert_eq!(names, ["c", "d", "e", "f", "g", "y", "z"], "{length}");
    }
}

#[test]
fn frames_say_what_they_were_called_with() {
    let script = "local function inner(length, boat, ...)\n  length = length + 1\n  return length --stop\nend\nlocal function outer() local r = inner(24, {name = 'Heron'}, 1) return r end\nlocal r = outer()\nreturn r";
    let arguments = at_stop(script, |engine| engine.frames(Page::first(2)).unwrap().items.remove(0).arguments);
    let shown: Vec<_> = arguments.iter().map(|(name, value)| format!("{name} = {value}")).collect();
    assert_eq!(shown, ["length = 25", "boat = {name = \"Heron\"}"]);
}

#[test]
fn extra_arguments_come_in_pages() {
    let script = "local function f(...)\n  return select('#', ...) --stop\nend\nreturn f(table.unpack({}, 1, 5000))";
    let (items, total) = at_stop(script, |engine| {
        let scopes = engine.scopes(0).unwrap();
        let varargs = scopes.iter().find(|scope| scope.kind == ScopeKind::Varargs).unwrap().handle;
        let page = engine.children(varargs, Part::All, Page { start: 4998, count: 10 }).unwrap();
        (shown(&page.items), page.total)
    });
    assert_eq!((items.as_str(), total), ("[4999] = nil; [5000] = nil", 5000));
}

#[test]
fn fields_and_methods_complete_without_running_anything() {
    let script = "local base = {length = 1}\nlocal boat = setmetatable({name = 'Heron', crew = {{nick = 'A'}}}, {__index = base})\nlocal trap = setmetatable({}, {__index = error})\nreturn boat, trap --stop";
    let found = at_stop(script, |engine| {
        ["boat.", "boat.le", "boat:na", "boat.crew[1].n", "trap.", "boat.nothing.", "bo", "string.form"]
            .map(|prefix| engine.complete(Some(0), prefix).join(" "))
    });
    let expected = [
        "boat.crew boat.length boat.name",
        "boat.length",
        "boat:name",
        "boat.crew[1].nick",
        "",
        "",
        "boat",
        "string.format",
    ];
    assert_eq!(found, expected);
}
