//! Looking and changing through a session.

use serde_json::json;

use adzeman::{Host, Listen, LuaContext};

use crate::harness::{Client, SCRIPT, on_each};

#[test]
fn capabilities_name_the_events_and_only_what_works() {
    on_each(SCRIPT, |host| {
        let mut client = host.connect();
        let body = client.ok("initialize", json!({}));
        let filters: Vec<_> =
            body["exceptionBreakpointFilters"].as_array().unwrap().iter().map(|f| &f["filter"]).collect();
        assert_eq!(filters, ["frame.update", "never", "quiet", "error.uncaught", "error.every"]);
        assert_eq!(body["supportsEvaluateForHovers"], true);
        for (name, supported) in body.as_object().unwrap() {
            assert!(!supported.is_null(), "{name}");
        }
    });
}

#[test]
fn scopes_and_values_of_a_frame() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(6, None)]);
        host.go();
        client.stopped();
        assert_eq!(client.scope("Locals"), "length = 1; sum = 11");
        assert_eq!(client.scope("Captured"), "base = 10");
        assert_eq!(client.scope("Host"), "gauge = 0; lock = {metres: 1.5, names: [\"upper\", \"lower\"]}; sealed = 7");
        assert!(client.scope("Globals").contains("total = 0"));
        let threads = client.ok("threads", json!({}));
        assert_eq!(threads, json!({"threads": [{"id": 1, "name": "main"}]}));
    });
}

#[test]
fn variables_and_host_objects_are_changed() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(6, None)]);
        host.go();
        client.stopped();
        let frame = client.frame(0)["id"].clone();
        let scopes = client.ok("scopes", json!({"frameId": frame}));
        let locals = scopes["scopes"][0]["variablesReference"].clone();
        let set = client.ok("setVariable", json!({"variablesReference": locals, "name": "sum", "value": "sum + 1000"}));
        assert_eq!(set["value"], "1011");
        let set = client.ok("setExpression", json!({"expression": "host.lock.metres", "value": "3", "frameId": frame}));
        assert_eq!(set["value"], "3.0");
        assert_eq!(host.level.lock().unwrap().metres, 3.0);
        client.ok("setExpression", json!({"expression": "host.lock.names[2]", "value": "'low'", "frameId": frame}));
        assert_eq!(host.level.lock().unwrap().names, ["upper", "low"]);
        client.break_at(&[(13, None)]);
        client.go_on("continue");
        client.stopped();
        assert_eq!(client.evaluate("total"), "1011", "the script went on with the changed value");
    });
}

#[test]
fn a_value_that_does_not_fit_is_refused_and_nothing_changes() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(6, None)]);
        host.go();
        client.stopped();
        let frame = client.frame(0)["id"].clone();
        let mut refused = |expression: &str, value: &str| {
            client.refused("setExpression", json!({"expression": expression, "value": value, "frameId": frame}))
        };
        let why = refused("host.lock.metres", "'high'");
        assert!(why.contains("'host.lock.metres' does not take that value") && why.contains("expected f64"), "{why}");
        assert!(refused("host.sealed", "8").contains("cannot be changed"), "read-only");
        assert!(refused("host.lock.meters", "1").contains("it has metres, names"));
        assert!(refused("host.lock.metres", "print").contains("a function has no data form"));
        assert!(refused("summ", "1").contains("there is no 'summ' here"));
        assert!(refused("sum", "1 +").contains("cannot read that"));
        assert_eq!(host.level.lock().unwrap().metres, 1.5);
    });
}

#[test]
fn globals_and_host_objects_are_open_while_the_host_runs() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        host.go();
        let body = client.ok("evaluate", json!({"expression": "host.lock", "threadId": 1}));
        assert_eq!(body["result"], "{metres: 1.5, names: [\"upper\", \"lower\"]}");
        assert_eq!(client.inside(&body["variablesReference"]), "metres = 1.5; names = [\"upper\", \"lower\"]");
        let body = client.ok("evaluate", json!({"expression": "total >= 0", "threadId": 1}));
        assert_eq!(body["result"], "true");
        client.ok("setExpression", json!({"expression": "host.lock.metres", "value": "9", "threadId": 1}));
        assert_eq!(host.level.lock().unwrap().metres, 9.0);
    });
}

#[test]
fn references_of_an_earlier_stop_are_refused() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(6, None)]);
        host.go();
        client.stopped();
        let frame = client.frame(0)["id"].clone();
        let reference = client.ok("scopes", json!({"frameId": frame}))["scopes"][0]["variablesReference"].clone();
        client.go_on("continue");
        client.stopped();
        let why = client.refused("variables", json!({"variablesReference": reference}));
        assert!(why.contains("earlier stop"), "{why}");
    });
}

#[test]
fn big_values_come_in_pages_and_small_answers() {
    let script = "function update(n)\n  local big = {}\n  for i = 1, 1000000 do big[i] = i end\n  local text = string.rep('x', 50000000)\n  local bytes = 'a\\255b'\n  local ring = {}\n  ring.ring = ring\n  return big, text, bytes, ring\nend";
    on_each(script, |host| {
        let mut client = host.attach();
        client.break_at(&[(8, None)]);
        host.go();
        client.stopped();
        let frame = client.frame(0)["id"].clone();
        let locals = client.ok("scopes", json!({"frameId": frame}))["scopes"][0]["variablesReference"].clone();
        let body = client.ok("variables", json!({"variablesReference": locals}));
        assert!(body.to_string().len() < 3000, "{} bytes", body.to_string().len());
        let big = &body["variables"][1];
        assert_eq!(big["indexedVariables"], 1_000_000);
        let page =
            json!({"variablesReference": big["variablesReference"], "filter": "indexed", "start": 500_000, "count": 3});
        let page = client.ok("variables", page);
        let values: Vec<_> = page["variables"].as_array().unwrap().iter().map(|variable| &variable["value"]).collect();
        assert_eq!(values, ["500001", "500002", "500003"]);
        let all = client.ok("variables", json!({"variablesReference": big["variablesReference"]}));
        assert_eq!(all["variables"].as_array().unwrap().len(), 1000, "no page is larger than the largest page");
        assert_eq!(client.evaluate("bytes"), "\"a\\xffb\"");
        assert_eq!(client.evaluate("ring.ring.ring"), "{ring = itself}");
    });
}

#[test]
fn sources_are_listed_and_shown() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let sources = client.ok("loadedSources", json!({}));
        let source = &sources["sources"][0];
        assert_eq!((source["name"].as_str(), source["path"].as_str()), (Some("toll.lua"), Some("scripts/toll.lua")));
        assert_eq!(source["checksums"][0]["checksum"].as_str().unwrap().len(), 16);
        let text = client.ok("source", json!({"sourceReference": source["sourceReference"]}));
        assert_eq!(text["content"], SCRIPT);
        let why = client.refused("source", json!({"sourceReference": 99}));
        assert!(why.contains("there is no source 99"), "{why}");
    });
}

#[test]
fn completions_know_locals_and_host_paths() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(6, None)]);
        host.go();
        client.stopped();
        let frame = client.frame(0)["id"].clone();
        let mut complete = |text: &str| {
            let column = text.len() + 1;
            let body = client.ok("completions", json!({"text": text, "column": column, "frameId": frame}));
            body["targets"]
                .as_array()
                .unwrap()
                .iter()
                .map(|t| t["label"].as_str().unwrap().to_owned())
                .collect::<Vec<_>>()
        };
        assert_eq!(complete("1 + le"), ["length"]);
        assert_eq!(complete("host.lock.m"), ["host.lock.metres"]);
        assert_eq!(complete("event."), ["event.n", "event.name", "event.subject"]);
    });
}

#[test]
fn what_scripts_print_reaches_the_client_with_its_line() {
    let script = "function update(n)\n  if n == 3 then\n    print('frame', n, nil)\n  end\nend";
    on_each(script, |host| {
        let mut client = host.attach();
        host.go();
        let body = client.event("output");
        assert_eq!((body["category"].as_str(), body["output"].as_str()), (Some("stdout"), Some("frame\t3\tnil\n")));
        assert_eq!((body["source"]["name"].as_str(), body["line"].as_i64()), (Some("toll.lua"), Some(3)));
    });
}

#[test]
fn lines_count_as_the_client_says() {
    on_each(SCRIPT, |host| {
        let mut client = host.connect();
        client.ok("initialize", json!({"linesStartAt1": false}));
        client.event("initialized");
        client.ok("attach", json!({}));
        let set = client.break_at(&[(4, None)]);
        assert_eq!(set[0]["line"], 4);
        host.go();
        let (_, line) = client.stopped();
        assert_eq!(line, 4, "line 5, counted from 0");
    });
}

/// A host that runs one script for ever, raises no event and never polls: it is looked at, changed, stopped and stepped all the
/// same, at whatever line its script is.
#[cfg(target_os = "linux")]
#[test]
fn a_host_that_comes_to_no_safe_point_is_looked_at_at_its_next_line() {
    let host = Host::builder("mill").start(Listen::ANY_PORT).unwrap();
    let (sender, receiver) = std::sync::mpsc::channel();
    let running = std::thread::spawn({
        let host = host.clone();
        move || {
            let lua = mlua::Lua::new();
            let context = LuaContext::attach(&host, &lua, "main").unwrap();
            // In a file of its own that no loader of ours has seen, in a coroutine.
            let script = "turns, on = 0, true\nlocal wheel = coroutine.wrap(function()\n  while on do\n    turns = turns + 1\n  end\nend)\nwheel()\nreturn turns";
            let function = lua.load(script).set_name("@mill.lua").into_function().unwrap();
            sender.send(()).unwrap();
            let turns: i64 = function.call(()).unwrap();
            drop(context);
            turns
        }
    });
    receiver.recv().unwrap();
    let mut client = Client::attached(&host);
    client.ok("configurationDone", json!({}));
    let here = |expression: &str| json!({"expression": expression, "threadId": 1});
    assert_eq!(client.ok("evaluate", here("on"))["result"], "true");
    let changed = client.ok("setExpression", json!({"expression": "turns", "value": "-5", "threadId": 1}));
    assert!(changed["made"].as_str().unwrap().starts_with("while a script runs"), "{changed}");
    let set = json!({"source": {"path": "mill.lua"}, "breakpoints": [{"line": 4}]});
    let set = client.ok("setBreakpoints", set)["breakpoints"][0].clone();
    assert_eq!(set["verified"], true, "its source was found while it runs: {set}");
    assert_eq!(client.stopped().1, 4);
    client.go_on("next");
    assert!([3, 4].contains(&client.stopped().1));
    client.ok("setBreakpoints", json!({"source": {"path": "mill.lua"}, "breakpoints": []}));
    client.go_on("continue");
    client.ok("setExpression", json!({"expression": "on", "value": "false", "threadId": 1}));
    assert!(running.join().unwrap() != 0);
}

/// What a press does when it is told to.
enum Job {
    /// Prints what it keeps until the client leaves.
    PrintKept,
    /// Loads 25,000 sheets, prints each once, and keeps none.
    PrintSheets,
}

/// A host that does one job after the other.
struct Press {
    host: Host,
    jobs: std::sync::mpsc::Sender<Job>,
    done: std::sync::mpsc::Receiver<()>,
    running: std::thread::JoinHandle<()>,
}

impl Press {
    fn start() -> Press {
        let host = Host::builder("press").event(adzeman::EventKind::new("print")).start(Listen::ANY_PORT).unwrap();
        let (jobs, told) = std::sync::mpsc::channel();
        let (is_done, done) = std::sync::mpsc::channel();
        let running = std::thread::spawn({
            let host = host.clone();
            move || Press::run(&host, &told, &is_done)
        });
        Press { host, jobs, done, running }
    }

    fn run(host: &Host, told: &std::sync::mpsc::Receiver<Job>, is_done: &std::sync::mpsc::Sender<()>) {
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(host, &lua, "main").unwrap();
        let load = |name: &str, n: u32| {
            let text = format!("local n = {n}\nreturn function(x)\n  return n + x\nend");
            context.load(name, &text).unwrap().call::<mlua::Function>(()).unwrap()
        };
        let print = |made: &mlua::Function, n: u32| {
            host.emit(adzeman::Event::of("print").with("n", n), || made.call::<u32>(n)).unwrap();
        };
        let kept = load("kept.lua", 7);
        for job in told {
            match job {
                Job::PrintKept => {
                    while host.is_attached() {
                        print(&kept, 1);
                    }
                }
                Job::PrintSheets => {
                    for n in 0..25_000 {
                        print(&load(&format!("sheet {n}.lua"), n), n);
                        if n % 5_000 == 0 {
                            lua.gc_collect().unwrap();
                        }
                    }
                    lua.gc_collect().unwrap();
                }
            }
            is_done.send(()).unwrap();
        }
    }

    fn attach(&self) -> Client {
        let mut client = Client::attached(&self.host);
        client.ok("configurationDone", json!({}));
        client
    }

    fn begin(&self, job: Job) {
        self.jobs.send(job).unwrap();
    }

    fn is_done(&self) {
        self.done.recv().unwrap();
    }

    fn end(self) {
        drop(self.jobs);
        self.running.join().unwrap();
    }
}

/// The sources that are known when those that are gone are forgotten, and what is kept is found.
fn known_when_looked_for(client: &mut Client) -> Vec<serde_json::Value> {
    let begun = std::time::Instant::now();
    loop {
        let body = client.ok("loadedSources", json!({}));
        let known = body["sources"].as_array().unwrap().iter().map(|held| held["name"].clone()).collect::<Vec<_>>();
        if known.len() < 4_000 && known.contains(&json!("kept.lua")) || begun.elapsed() > crate::harness::LONG {
            return known;
        }
    }
}

/// Breaks in what the press keeps, and leaves.
fn break_in_what_is_kept(mut client: Client, line: i64, what: &str) {
    let set = json!({"source": {"path": "kept.lua"}, "breakpoints": [{"line": line}]});
    let set = client.ok("setBreakpoints", set)["breakpoints"][0].clone();
    assert_eq!(set["verified"], true, "{what}: {set}");
    assert_eq!(client.stopped().1, line, "{what}");
    client.ok("disconnect", json!({}));
}

#[test]
fn sources_whose_functions_are_gone_are_forgotten_and_those_that_are_alive_are_not() {
    for is_attached in [true, false] {
        let press = Press::start();
        let client = is_attached.then(|| press.attach());
        press.begin(Job::PrintSheets);
        press.is_done();
        let mut client = client.unwrap_or_else(|| press.attach());
        press.begin(Job::PrintKept);
        let known = known_when_looked_for(&mut client);
        assert!(known.len() < 4_000, "attached {is_attached}: {} sources are known", known.len());
        break_in_what_is_kept(client, 3, &format!("attached {is_attached}"));
        press.is_done();
        press.end();
    }
}

#[test]
fn what_was_armed_is_hit_again_after_all_that_was_loaded_while_nobody_was_attached() {
    let press = Press::start();
    let mut client = press.attach();
    press.begin(Job::PrintKept);
    assert!(known_when_looked_for(&mut client).contains(&json!("kept.lua")));
    break_in_what_is_kept(client, 3, "before");
    press.is_done();
    press.begin(Job::PrintSheets);
    press.is_done();
    let mut client = press.attach();
    press.begin(Job::PrintKept);
    assert!(known_when_looked_for(&mut client).contains(&json!("kept.lua")));
    break_in_what_is_kept(client, 3, "after");
    press.is_done();
    press.end();
}
