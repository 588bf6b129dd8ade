//! Every site, and everything that narrows one, in one table, over every transport.

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use serde_json::{Value as Json, json};

use crate::harness::{Client, Works, on_each};
use crate::versions::{is_since, worded};

/// Runs twelve frames; what a breakpoint did in them is compared with what the row says.
const SCRIPT: &str = "\
local base = 10
total, mood = 0, nil
tariff = { base = 4 }

local function fare(length)
  local sum = base + length
  tariff.base = 4
  return sum
end

local function spin(times)
  for i = 1, times do base = base end
end

function update(n)
  local length = n % 5
  local toll = fare(length)
  spin(3)
  if n % 4 == 0 then total = total + toll end
  if n == 3 then mood = 1 elseif n == 6 then mood = 'high' end
  if n == 5 then pcall(error, 'caught at ' .. n) end
  if n == 7 then error('stuck at ' .. n) end
  if n == 9 then base = 11 end
  if n == 10 then tariff.base = 5 end
  if n == 11 then wait() end
  return total
end

function wait()
  local begun = os.clock()
  while os.clock() - begun < 0.2 do
    local here = 1
  end
end
";
/// The last line of the last frame: every row ends there.
const END: i64 = 26;

/// How a breakpoint is asked for.
enum Set {
    Line(i64, Json),
    Function(&'static str, Json),
    Filter(&'static str, Json),
    /// An expression, found at the first line of `update`, and the access type.
    Data(&'static str, &'static str, Json),
}

struct Row {
    name: &'static str,
    set: Vec<Set>,
    /// The stops, as `reason@line n`, line 0 at the host's boundary.
    stops: Vec<&'static str>,
    /// What was said meanwhile.
    said: Vec<&'static str>,
}

fn row(name: &'static str, set: Vec<Set>, stops: &[&'static str]) -> Row {
    Row { name, set, stops: stops.to_vec(), said: Vec::new() }
}

fn with(mut base: Json, more: Json) -> Json {
    base.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    base
}

impl Client {
    /// Sets all breakpoints of a row, and the one on the last line.
    fn set_all(&mut self, set: &[Set]) {
        let (mut lines, mut functions, mut filters, mut data) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        for wanted in set {
            match wanted {
                Set::Line(line, more) => lines.push(with(json!({ "line": line }), more.clone())),
                Set::Function(name, more) => functions.push(with(json!({ "name": name }), more.clone())),
                Set::Filter(filter, more) => filters.push(with(json!({ "filterId": filter }), more.clone())),
                Set::Data(name, access, more) => {
                    let frame = self.frame(0)["id"].clone();
                    let info = self.ok("dataBreakpointInfo", json!({"name": name, "frameId": frame}));
                    assert!(info["dataId"].is_string(), "{info}");
                    let wanted = json!({"dataId": info["dataId"], "accessType": access});
                    data.push(with(wanted, more.clone()));
                }
            }
        }
        lines.push(json!({"line": END, "condition": "n == 12"}));
        let all = [
            ("setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": lines})),
            ("setFunctionBreakpoints", json!({ "breakpoints": functions })),
            ("setExceptionBreakpoints", json!({"filters": [], "filterOptions": filters})),
            ("setDataBreakpoints", json!({ "breakpoints": data })),
        ];
        for (request, arguments) in all {
            let body = self.ok(request, arguments);
            for held in body["breakpoints"].as_array().unwrap() {
                assert_eq!(held["verified"], true, "{held}");
            }
        }
    }
}

/// Runs the frames with the breakpoints of a row; answers the stops and what was said.
fn play(client: &mut Client, row: &Row) -> (Vec<String>, Vec<String>) {
    client.set_all(&row.set);
    client.go_on("continue");
    let mut stops = Vec::new();
    loop {
        let body = client.event("stopped");
        let stack = client.ok("stackTrace", json!({"threadId": 1}));
        let frames = stack["stackFrames"].as_array().unwrap();
        let line = frames.iter().filter_map(|frame| frame["line"].as_i64()).find(|line| *line > 0).unwrap_or(0);
        let at = json!({"expression": "event.n", "frameId": frames[0]["id"]});
        let n = client.ok("evaluate", at)["result"].as_str().unwrap().to_owned();
        if line == END && n == "12" {
            break;
        }
        let reason = body["reason"].as_str().unwrap();
        let text = body["text"].as_str().map(|text| format!(": {text}")).unwrap_or_default();
        stops.push(format!("{reason}@{line} {n}{text}"));
        client.go_on("continue");
    }
    let mut said = Vec::new();
    while client.has_event("output") {
        let body = client.event("output");
        if body["category"] != "stderr" {
            let bell = if body["bell"] == true { " (bell)" } else { "" };
            said.push(format!("{}{bell}", body["output"].as_str().unwrap().trim_end()));
        }
    }
    (stops, said)
}

fn own(more: Json) -> Json {
    json!({ "adzeman": more })
}

fn line_rows() -> Vec<Row> {
    let at = |more| vec![Set::Line(16, more)];
    vec![
        row(
            "a condition",
            vec![Set::Line(17, json!({"condition": "length == 3"}))],
            &["breakpoint@17 3", "breakpoint@17 8"],
        ),
        row("a condition that only Lua can tell", at(json!({"condition": "n * n == 49"})), &["breakpoint@16 7"]),
        row("a subject", at(own(json!({"subject": "frame 4"}))), &["breakpoint@16 4"]),
        row("another context", at(own(json!({"subject": "elsewhere"}))), &[]),
        row("after", at(json!({"hitCondition": "after 9"})), &["breakpoint@16 11", "breakpoint@16 12"]),
        row("every", at(json!({"hitCondition": "every 5"})), &["breakpoint@16 6", "breakpoint@16 11"]),
        row("once", at(json!({"hitCondition": "after 2 once"})), &["breakpoint@16 4"]),
        row(
            "an editor's hit condition",
            at(json!({"hitCondition": ">= 10"})),
            &["breakpoint@16 11", "breakpoint@16 12"],
        ),
        row("disabled", at(own(json!({"disabled": true}))), &[]),
        row(
            "a condition that fails stops once",
            at(json!({"condition": "nobody.length > 2"})),
            &[
                "condition failed@16 2: the condition 'nobody.length > 2' could not be evaluated: attempt to index a nil value (global 'nobody'). It counts as not met from now on",
            ],
        ),
        row(
            "until another one was hit",
            vec![
                Set::Line(16, own(json!({"until": "third"}))),
                Set::Line(17, with(json!({"condition": "n == 3"}), own(json!({"name": "third"})))),
            ],
            &["breakpoint@16 2", "breakpoint@16 3", "breakpoint@17 3"],
        ),
    ]
}

impl Row {
    fn says(mut self, said: &[&'static str]) -> Self {
        self.said = said.to_vec();
        self
    }
}

fn action_rows() -> Vec<Row> {
    vec![
        row(
            "a log message",
            vec![Set::Line(17, json!({"logMessage": "{hits}: {length} m for {name}", "hitCondition": "every 6"}))],
            &[],
        )
        .says(&["1: 1 m for 1", "2: 2 m for 1"]),
        row(
            "a named log message on an event",
            vec![Set::Filter(
                "frame.update",
                with(json!({"condition": "event.n > 10"}), own(json!({"say": "{name} {event.n}", "name": "late"}))),
            )],
            &[],
        )
        .says(&["late 11", "late 12"]),
        row(
            "an expression that fails says so in its place",
            vec![Set::Line(17, json!({"logMessage": "<{nobody.x}>", "hitCondition": "once"}))],
            &[],
        )
        .says(&["<<attempt to index a nil value (global 'nobody')>>"]),
        row(
            "a statement is run",
            vec![
                Set::Line(16, with(json!({"condition": "n == 2"}), own(json!({"run": "n = 40"})))),
                Set::Line(17, json!({"condition": "n == 40"})),
            ],
            &["breakpoint@17 2"],
        ),
        row(
            "the bell rings",
            vec![Set::Function("spin", with(json!({"hitCondition": "4"}), own(json!({"ring": true}))))],
            &[],
        )
        .says(&["breakpoint ID was hit (bell)"]),
    ]
}

fn function_and_event_rows() -> Vec<Row> {
    let once = || json!({"hitCondition": "after 2 every 5"});
    vec![
        row("a function by name", vec![Set::Function("fare", once())], &["breakpoint@6 7", "breakpoint@6 12"]),
        row(
            "a function by file and name",
            vec![Set::Function("toll.lua:fare", once())],
            &["breakpoint@6 7", "breakpoint@6 12"],
        ),
        row(
            "a function by file and line",
            vec![Set::Function("toll.lua:5", once())],
            &["breakpoint@6 7", "breakpoint@6 12"],
        ),
        row(
            "a function stops when it is entered, not at each turn of its first loop",
            vec![Set::Function("spin", once())],
            &["breakpoint@12 7", "breakpoint@12 12"],
        ),
        row(
            "an event with a condition",
            vec![Set::Filter("frame.update", json!({"condition": "event.n % 5 == 0"}))],
            &["event@16 5", "event@16 10"],
        ),
        row(
            "an event about a subject",
            vec![Set::Filter("frame.update", own(json!({"subject": "frame 7"})))],
            &["event@16 7"],
        ),
        row("any event", vec![Set::Filter("*", own(json!({"hits": "after 21"})))], &["event@16 12"]),
        row(
            "at the host's boundary",
            vec![Set::Filter(
                "frame.update",
                with(json!({"condition": "event.n == 7"}), own(json!({"atBoundary": true}))),
            )],
            &["event@0 7: at the host's boundary: no line of a script is run"],
        ),
        row(
            "an event that no script handles",
            vec![Set::Filter("quiet", json!({"condition": "event.n == 4"}))],
            &["event@0 4: at the host's boundary: no line of a script is run"],
        ),
        row(
            "an uncaught error",
            vec![Set::Filter("error.uncaught", json!({}))],
            &["exception@22 7: scripts/toll.lua:22: stuck at 7 (nobody in the script catches it)"],
        ),
        row(
            "every error",
            vec![Set::Filter("error.every", json!({}))],
            &[
                "exception@21 5: caught at 5 (the script catches it)",
                "exception@22 7: scripts/toll.lua:22: stuck at 7 (nobody in the script catches it)",
            ],
        ),
        row(
            "an error by its text",
            vec![Set::Filter("error.every", own(json!({"containing": "caught"})))],
            &["exception@21 5: caught at 5 (the script catches it)"],
        ),
        row(
            "an error with a condition",
            vec![Set::Filter("error.every", json!({"condition": "n > 6"}))],
            &["exception@22 7: scripts/toll.lua:22: stuck at 7 (nobody in the script catches it)"],
        ),
    ]
}

fn change_rows() -> Vec<Row> {
    let data = |name, access, more| vec![Set::Data(name, access, more)];
    vec![
        row(
            "a global",
            data("total", "write", json!({})),
            &[
                "data breakpoint@20 4: total was 0, and is 14, by scripts/toll.lua:19",
                "data breakpoint@20 8: total was 14, and is 27, by scripts/toll.lua:19",
                "data breakpoint@20 12: total was 27, and is 40, by scripts/toll.lua:19",
            ],
        ),
        row(
            "a captured variable",
            data("base", "write", json!({})),
            &["data breakpoint@24 9: base was 10, and is 11, by scripts/toll.lua:23"],
        ),
        row(
            "a write in another function that shares the variable",
            data("base", "write", with(json!({"hitCondition": "after 4 every 10"}), own(json!({"on": "write"})))),
            // A loop on one line is told of once for each turn, and before 5.4 once more.
            if is_since("5.4") {
                &[
                    "data breakpoint@12 5: this statement assigns to base",
                    "data breakpoint@12 8: this statement assigns to base",
                    "data breakpoint@12 11: this statement assigns to base",
                ][..]
            } else {
                &[
                    "data breakpoint@12 4: this statement assigns to base",
                    "data breakpoint@12 6: this statement assigns to base",
                    "data breakpoint@12 9: this statement assigns to base",
                    "data breakpoint@12 11: this statement assigns to base",
                ]
            },
        ),
        row(
            "a field of a table",
            data("tariff.base", "write", json!({})),
            &[
                "data breakpoint@25 10: tariff.base was 4, and is 5, by scripts/toll.lua:24",
                "data breakpoint@8 11: tariff.base was 5, and is 4, by scripts/toll.lua:7",
            ],
        ),
        row(
            "a change of type",
            data("mood", "write", own(json!({"on": "type"}))),
            &[
                "data breakpoint@21 3: mood was nil (nil), and is 1 (integer), by scripts/toll.lua:20",
                "data breakpoint@21 6: mood was 1 (integer), and is \"high\" (string), by scripts/toll.lua:20",
            ],
        ),
        row(
            "part of a host object",
            data("host.gauge", "write", json!({})),
            &[
                "data breakpoint@0 6: host.gauge was 0, and is 1, after quiet",
                "data breakpoint@0 11: host.gauge was 1, and is 2, after quiet",
            ],
        ),
        row(
            "a write of the same value",
            data("tariff.base", "write", with(json!({"hitCondition": "after 10"}), own(json!({"on": "write"})))),
            &[
                "data breakpoint@24 10: this statement assigns to tariff.base",
                "data breakpoint@7 11: this statement assigns to tariff.base",
                "data breakpoint@7 12: this statement assigns to tariff.base",
            ],
        ),
        row(
            "a read of a global",
            data("total", "read", json!({"condition": "n == 4"})),
            &["data breakpoint@19 4: this statement reads total", "data breakpoint@26 4: this statement reads total"],
        ),
    ]
}

fn check(rows: Vec<Row>) {
    let mut played = 0;
    for row in &rows {
        on_each(SCRIPT, |host| {
            let mut client = host.attach();
            client.break_at(&[(16, None)]);
            host.go();
            client.stopped();
            let (stops, said) = play(&mut client, row);
            assert_eq!(stops, row.stops.iter().map(|text| worded(text)).collect::<Vec<_>>(), "{}", row.name);
            let said: Vec<_> = said.iter().map(|text| without_ids(text)).collect();
            let expected: Vec<_> = row.said.iter().map(|text| without_ids(&worded(text))).collect();
            assert_eq!(said, expected, "{}", row.name);
        });
        played += 1;
    }
    assert!(played > 0, "no scenario was played");
}

/// Numbers of breakpoints are the host's own: a text of words, a number at its end or before `was`.
fn without_ids(text: &str) -> String {
    let words = text.split(' ').collect::<Vec<_>>();
    let number = |word: &str| word.parse::<u64>().is_ok() || word == "ID";
    let is_id = |at: usize| at > 0 && matches!(words[at - 1], "breakpoint" | "for") && number(words[at]);
    (0..words.len()).map(|at| if is_id(at) { "ID" } else { words[at] }).collect::<Vec<_>>().join(" ")
}

#[test]
fn lines() {
    check(line_rows());
}

#[test]
fn actions() {
    check(action_rows());
}

#[test]
fn functions_events_and_errors() {
    check(function_and_event_rows());
}

#[test]
fn changes() {
    check(change_rows());
}

#[test]
fn a_time_budget_stops_where_it_runs_out() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let options = json!([{"filterId": "frame.update", "adzeman": {"budgetMilliseconds": 20.0}}]);
        client.ok("setExceptionBreakpoints", json!({"filters": [], "filterOptions": options}));
        host.go();
        let body = client.event("stopped");
        assert_eq!(
            (body["reason"].as_str(), body["text"].as_str()),
            (Some("time"), Some("the handler has taken longer than 20ms"))
        );
        let stack = client.ok("stackTrace", json!({"threadId": 1}));
        let frames = stack["stackFrames"].as_array().unwrap();
        let script: Vec<_> = frames.iter().filter(|frame| frame["line"].as_i64() > Some(0)).collect();
        assert_eq!(script[0]["name"], "wait");
        // On a busy machine, all of it may be used up before anyone has noticed that half of it was.
        let times: Vec<Option<f64>> = script.iter().map(|frame| frame["runningMilliseconds"].as_f64()).collect();
        assert!(times[0] <= times[1], "inner calls are younger: {times:?}");
        std::thread::sleep(std::time::Duration::from_millis(20));
        let again = client.ok("stackTrace", json!({"threadId": 1}));
        let of = |stack: &Json| stack["stackFrames"][0]["runningMilliseconds"].clone();
        assert_eq!(of(&again), of(&stack), "time at a stop is left out");
        let outer = script.last().unwrap();
        assert!(
            times[1].is_none() || outer["runningLonger"] == true,
            "it ran when half of the budget was used up: {outer}"
        );
        client.go_on("continue");
        host.wait_frames(3);
    });
}

#[test]
fn a_time_budget_is_that_of_its_own_handler_whatever_runs_inside() {
    const SCRIPT: &str = "\
local raise = ...
function inner()
  while not raise('is late') do end
end
function outer()
  raise('inner')
  local here = 1
  return here
end";
    let host = Host::builder("test").event(EventKind::new("outer")).event(EventKind::new("inner"));
    let host = host.start(Listen::ANY_PORT).unwrap();
    let (go, may_go) = std::sync::mpsc::channel();
    let running = Works::start(host.clone(), move |host, _| {
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(host, &lua, "main").unwrap();
        let raise = {
            let (host, begun) = (host.clone(), std::cell::Cell::new(std::time::Instant::now()));
            move |lua: &mlua::Lua, what: String| {
                if what != "inner" {
                    return Ok(begun.get().elapsed() > std::time::Duration::from_millis(60));
                }
                begun.set(std::time::Instant::now());
                let inner: mlua::Function = lua.globals().get("inner")?;
                host.emit(Event::of("inner"), || inner.call::<()>(())).map(|()| false)
            }
        };
        let raise = lua.create_function(raise).unwrap();
        context.load("job.lua", SCRIPT).unwrap().call::<()>(raise).unwrap();
        let outer: mlua::Function = lua.globals().get("outer").unwrap();
        may_go.recv().unwrap();
        host.poll();
        host.emit(Event::of("outer"), || outer.call::<i64>(())).unwrap();
    });
    let mut client = running.attach();
    let budget = |kind: &str, time: f64| json!({"filterId": kind, "adzeman": {"budgetMilliseconds": time}});
    // The inner one has time enough: what is over while it runs is the outer one's.
    let options = json!([budget("outer", 20.0), budget("inner", 60_000.0)]);
    client.ok("setExceptionBreakpoints", json!({"filters": [], "filterOptions": options}));
    client.ok("configurationDone", json!({}));
    go.send(()).unwrap();
    let body = client.event("stopped");
    assert_eq!(
        (body["reason"].as_str(), body["text"].as_str()),
        (Some("time"), Some("the handler has taken longer than 20ms"))
    );
    let stack = client.ok("stackTrace", json!({"threadId": 1}));
    assert_eq!((&stack["stackFrames"][0]["name"], &stack["stackFrames"][0]["line"]), (&json!("outer"), &json!(7)));
    client.go_on("continue");
}
