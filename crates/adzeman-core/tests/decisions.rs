//! The decision to run or stop, on the test engine: breakpoints, conditions, events, steps. Supervisors here stay on their thread.
#![cfg(not(feature = "send"))]

use std::cell::RefCell;
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use adzeman_core::breakpoint::{
    Action, Armed, BreakpointSpec, BreakpointStore, HitRule, Moved, OwnerId, Resolved, Site, Status, Template,
};
use adzeman_core::decide::{Decider, EventInHand, Moment, Reason};
use adzeman_core::engine::{Engine, EngineContext as _, EngineError, ScopeKind, Supervisor};
use adzeman_core::source::SourceLine;
use adzeman_core::source::{Line, LineSet, SourceFacts, SourceId, Sources};
use adzeman_core::stepping::{Step, StepKind};
use adzeman_core::test_engine::{Run, TestEngine};
use adzeman_core::value::{Page, Part};
use proptest::prelude::*;

const PROGRAM: &str = "\
fn main
  x = 1
  call work

  loop 2 work
  y = x + 4
  say y
fn work
  z = 3
  z = z - 1
";

type AtStop = dyn FnMut(&mut dyn Engine);

/// Decides with what it is given, and keeps what it saw.
struct Watch {
    decider: RefCell<Decider>,
    subject: Option<&'static str>,
    stops: RefCell<Vec<(u32, Reason)>>,
    at_stop: RefCell<Box<AtStop>>,
    printed: RefCell<String>,
    said: RefCell<Vec<String>>,
}

impl Supervisor for Watch {
    fn source_loaded(&self, _: SourceFacts) -> SourceId {
        SourceId(0)
    }

    fn attention(&self) -> Arc<AtomicBool> {
        Arc::default()
    }

    fn line_reached(&self, engine: &mut dyn Engine, source: Option<SourceId>, line: Line) {
        let subject = self.subject.as_ref().map(|subject| subject as &dyn std::fmt::Display);
        let event = EventInHand { kind: "frame.update", subject };
        let place = source.map(|source| SourceLine { source, line });
        let moment = Moment { place, event: Some(event), context: "main" };
        let decision = self.decider.borrow_mut().at_line(moment, engine);
        self.said.borrow_mut().extend(decision.said.into_iter().map(|said| said.text));
        if let Some(reason) = decision.reason {
            self.stops.borrow_mut().push((line.get(), reason));
            (self.at_stop.borrow_mut())(engine);
        }
    }

    fn holds_line(&self, _: SourceId, _: &LineSet, _: u32, _: u32) -> bool {
        true
    }

    fn printed(&self, text: &str, _: Option<(SourceId, Line)>) {
        self.printed.borrow_mut().push_str(text);
    }

    fn is_attached(&self) -> bool {
        true
    }
}

fn spec(site: Site) -> BreakpointSpec {
    BreakpointSpec::at(site)
}

fn at(line: u32) -> Site {
    Site::Line { path: "program".into(), line: Line::new(line).unwrap() }
}

/// Binds breakpoints to the program.
fn resolve(engine: &TestEngine, specs: Vec<BreakpointSpec>) -> Vec<Resolved> {
    let mut sources = Sources::default();
    sources.add(engine.facts());
    let mut store = BreakpointStore::default();
    store.replace(OwnerId(1), |_| true, specs);
    store.resolve(&sources, &["frame.update".to_owned()], &|_, _| Vec::new())
}

/// Runs the program with breakpoints and answers the stops, and what was said.
fn run_with(specs: Vec<BreakpointSpec>, expects: bool, at_stop: impl FnMut(&mut dyn Engine) + 'static) -> Rc<Watch> {
    let engine = TestEngine::new("program", PROGRAM);
    let mut decider = Decider::default();
    decider.arm(Arc::new(Armed::new(&resolve(&engine, specs), Arc::default())));
    decider.expect_handler(expects);
    let watch = Rc::new(Watch {
        decider: RefCell::new(decider),
        subject: Some("lock.upper"),
        stops: RefCell::default(),
        at_stop: RefCell::new(Box::new(at_stop)),
        printed: RefCell::default(),
        said: RefCell::default(),
    });
    engine.attach(watch.clone());
    engine.watch(&watch.decider.borrow().need());
    engine.call("main");
    watch
}

/// Runs a random program with breakpoints.
fn run_on(engine: &TestEngine, specs: Vec<BreakpointSpec>) -> Rc<Watch> {
    let mut decider = Decider::default();
    decider.arm(Arc::new(Armed::new(&resolve(engine, specs), Arc::default())));
    let watch = Rc::new(Watch {
        decider: RefCell::new(decider),
        subject: None,
        stops: RefCell::default(),
        at_stop: RefCell::new(Box::new(|_| ())),
        printed: RefCell::default(),
        said: RefCell::default(),
    });
    engine.attach(watch.clone());
    engine.watch(&watch.decider.borrow().need());
    engine.call("f0");
    watch
}

fn lines(watch: &Watch) -> Vec<u32> {
    watch.stops.borrow().iter().map(|(line, _)| *line).collect()
}

#[test]
fn a_line_stops_each_time_and_an_empty_one_moves_on() {
    assert_eq!(lines(&run_with(vec![spec(at(9))], false, |_| ())), [9, 9, 9]);
    assert_eq!(lines(&run_with(vec![spec(at(4))], false, |_| ())), [5]);
}

#[test]
fn a_condition_is_asked_and_hits_are_counted() {
    let when = |condition: &str| BreakpointSpec { condition: Some(condition.into()), ..spec(at(10)) };
    let watch = run_with(vec![when("z > 5")], false, |_| ());
    assert!(lines(&watch).is_empty());
    let watch = run_with(vec![when("z == 3"), spec(at(10))], false, |_| ());
    assert!(matches!(&watch.stops.borrow()[0].1, Reason::Breakpoint { ids } if ids.len() == 2));
}

#[test]
fn a_condition_that_fails_stops_once_and_says_why() {
    let broken = BreakpointSpec { condition: Some("nobody".into()), ..spec(at(9)) };
    let watch = run_with(vec![broken], false, |_| ());
    let stops = watch.stops.borrow();
    assert_eq!(stops.len(), 1);
    assert!(matches!(&stops[0].1, Reason::ConditionFailed { why, .. } if why.contains("there is no 'nobody'")));
}

#[test]
fn an_event_stops_at_the_first_line_of_its_handler_only() {
    let event = || spec(Site::Event { kind: "frame.update".into(), at_boundary: false });
    assert_eq!(lines(&run_with(vec![event()], true, |_| ())), [2]);
    assert!(lines(&run_with(vec![event()], false, |_| ())).is_empty());
    let other = BreakpointSpec { subject: Some("lock.lower".into()), ..event() };
    assert!(lines(&run_with(vec![other], true, |_| ())).is_empty());
    let same = BreakpointSpec { subject: Some("lock.upper".into()), ..event() };
    assert_eq!(lines(&run_with(vec![same], true, |_| ())), [2]);
}

#[test]
fn a_function_binds_to_its_body_and_what_is_missing_says_why() {
    let engine = TestEngine::new("program", PROGRAM);
    let resolved = resolve(
        &engine,
        vec![
            spec(Site::Function { name: "work".into() }),
            spec(Site::Function { name: "rest".into() }),
            spec(Site::Line { path: "other".into(), line: Line::FIRST }),
            spec(at(99)),
            spec(Site::Event { kind: "record.save".into(), at_boundary: false }),
        ],
    );
    assert_eq!(resolved[0].status.bindings()[0].place.line.get(), 9);
    let why = |index: usize| match &resolved[index].status {
        Status::Pending(why) => why.to_string(),
        Status::Bound(_) => panic!("{index} is bound"),
    };
    assert!(why(1).contains("no loaded source defines a function 'rest'"));
    assert!(why(2).contains("no source 'other' is loaded yet"));
    assert!(why(3).contains("its last one with code is 10"));
    assert!(why(4).contains("it has frame.update"));
}

#[test]
fn a_breakpoint_asked_for_again_keeps_its_number_and_owners_keep_apart() {
    let mut store = BreakpointStore::default();
    let mine = store.replace(OwnerId(1), |_| true, vec![spec(at(2)), spec(at(3))]);
    assert!(mine[1].reach());
    store.replace(OwnerId(2), |_| true, vec![spec(at(5))]);
    let again = store.replace(OwnerId(1), |_| true, vec![spec(at(3)), spec(at(9))]);
    assert_eq!((again[0].id, again[0].hits()), (mine[1].id, 1));
    assert!(again[1].id.0 > 3, "numbers are not used twice");
    store.remove_owner(OwnerId(1));
    let left = store.resolve(&Sources::default(), &[], &|_, _| Vec::new());
    assert_eq!(left.iter().map(|held| held.breakpoint.owner).collect::<Vec<_>>(), [OwnerId(2)]);
}

#[test]
fn values_are_looked_at_and_changed_at_a_stop() {
    let watch = run_with(vec![spec(at(6))], false, |engine| {
        let scopes = engine.scopes(0).unwrap();
        assert_eq!(scopes[0].kind, ScopeKind::Locals);
        let locals = engine.children(scopes[0].handle, Part::All, Page::first(9)).unwrap();
        assert_eq!((locals.total, locals.items[0].name.as_str()), (1, "x"));
        engine.assign_expression(Some(0), "x", "100").unwrap();
        let error = engine.assign_expression(Some(0), "nobody", "1").unwrap_err();
        assert!(matches!(error, EngineError::NoName { .. }));
        assert!(matches!(engine.scopes(7), Err(EngineError::NoFrame { index: 7, depth: 1 })));
    });
    assert_eq!(*watch.printed.borrow(), "104\n");
}

/// A program of functions that call later ones, so that it ends, with breakpoints on some lines.
fn programs() -> impl Strategy<Value = (String, Vec<u32>)> {
    let bodies = proptest::collection::vec(proptest::collection::vec(0..4_u8, 1..5), 1..5);
    (bodies, proptest::collection::vec(1..30_u32, 0..6)).prop_map(|(bodies, wanted)| {
        let count = bodies.len();
        let mut text = String::new();
        for (number, body) in bodies.iter().enumerate() {
            text.push_str(&format!("fn f{number}\n"));
            for choice in body {
                let next = number + 1;
                text.push_str(&match choice {
                    0 if next < count => format!("  call f{next}\n"),
                    1 if next < count => format!("  loop 2 f{next}\n"),
                    2 => "\n  a = 1\n".to_owned(),
                    _ => "  b = 2\n".to_owned(),
                });
            }
        }
        (text, wanted)
    })
}

/// The lines of a program in the order in which they run, with the depth of each.
fn trace(text: &str) -> Vec<(u32, usize)> {
    fn call(text: &[&str], name: &str, depth: usize, out: &mut Vec<(u32, usize)>) {
        let start = text.iter().position(|line| *line == format!("fn {name}")).unwrap();
        for (number, line) in text.iter().enumerate().skip(start + 1) {
            if line.starts_with("fn") {
                return;
            }
            let words: Vec<_> = line.split_whitespace().collect();
            if !words.is_empty() {
                out.push((u32::try_from(number).unwrap() + 1, depth));
            }
            match words[..] {
                ["call", inner] => call(text, inner, depth + 1, out),
                ["loop", _, inner] => (0..2).for_each(|_| call(text, inner, depth + 1, out)),
                _ => {}
            }
        }
    }
    let mut out = Vec::new();
    call(&text.lines().collect::<Vec<_>>(), "f0", 1, &mut out);
    out
}

proptest! {
    #[test]
    fn breakpoints_stop_where_the_model_says((text, wanted) in programs()) {
        let engine = TestEngine::new("program", &text);
        let holdable = engine.facts().code.get().lines.clone();
        let bound: Vec<_> = wanted.iter().filter_map(|line| holdable.next_from(Line::new(*line)?)).collect();
        let expected: Vec<_> = trace(&text).into_iter().map(|(line, _)| line)
            .filter(|line| bound.contains(&Line::new(*line).unwrap())).collect();
        let watch = run_on(&engine, wanted.iter().map(|line| spec(at(*line))).collect());
        prop_assert_eq!(lines(&watch), expected);
    }

    #[test]
    fn what_narrows_a_breakpoint_is_as_the_model_says(
        (text, _) in programs(),
        wanted in proptest::collection::vec((1..30_u32, 0..4_u64, 1..4_u64, any::<bool>(), 0..10_u8), 0..6),
    ) {
        let engine = TestEngine::new("program", &text);
        let holdable = engine.facts().code.get().lines.clone();
        // Numbers count from 1 in the order in which they are set; the first ends some of the others.
        let narrow = |(number, (line, after, every, once, choice)): (usize, &(u32, u64, u64, bool, u8))| BreakpointSpec {
            hits: HitRule { after: *after, every: *every, once: *once },
            enabled: *choice > 0,
            until: (number > 0 && *choice > 6).then(|| "1".to_owned()),
            ..spec(at(*line))
        };
        let specs: Vec<_> = wanted.iter().enumerate().map(narrow).collect();
        let mut times = vec![0_u64; specs.len()];
        let mut first_hit = false;
        let mut expected = Vec::new();
        for (line, _) in trace(&text) {
            let ended = first_hit;
            let mut stops = false;
            for (number, held) in specs.iter().enumerate() {
                let bound = Line::new(wanted[number].0).and_then(|wanted| holdable.next_from(wanted));
                let lives = held.enabled && !(held.until.is_some() && (ended || first_hit));
                if bound.map(Line::get) != Some(line) || !lives {
                    continue;
                }
                times[number] += 1;
                let beyond = times[number].saturating_sub(held.hits.after);
                let counts = beyond > 0 && beyond % held.hits.every == 0 && (!held.hits.once || beyond == held.hits.every);
                first_hit |= counts && number == 0;
                stops |= counts;
            }
            if stops {
                expected.push(line);
            }
        }
        let watch = run_on(&engine, specs);
        prop_assert_eq!(lines(&watch), expected);
    }

    #[test]
    fn steps_end_where_the_model_says((text, _) in programs(), kinds in proptest::collection::vec(0..3_u8, 0..12)) {
        let ran = trace(&text);
        let kinds: Vec<_> = kinds.iter().map(|kind| [StepKind::Over, StepKind::Into, StepKind::Out][usize::from(*kind)]).collect();
        let mut expected = vec![ran[0].0];
        let mut here = 0;
        for kind in &kinds {
            let depth = ran[here].1;
            let next = (here + 1..ran.len()).find(|index| match kind {
                StepKind::Into => true,
                StepKind::Over => ran[*index].1 <= depth,
                StepKind::Out => ran[*index].1 < depth,
            });
            let Some(next) = next else { break };
            here = next;
            expected.push(ran[here].0);
        }
        let engine = TestEngine::new("program", &text);
        let stops = engine.run("f0", move |stop| kinds.get(stop.number).map_or(Run::Freely, |kind| Run::Step(*kind)));
        prop_assert_eq!(stops, expected);
    }
}

#[test]
fn a_step_given_up_ends_nowhere() {
    let engine = TestEngine::new("program", PROGRAM);
    let mut decider = Decider::default();
    engine.at_safe_point(&mut |view| decider.begin_step(Step::begin(StepKind::Over, view.stack())));
    assert!(decider.need().every_line);
    decider.run_freely();
    assert!(decider.need().is_nothing());
}

#[test]
fn actions_do_their_work_and_go_on() {
    let action = |action| BreakpointSpec { action, ..spec(at(9)) };
    let say = Action::Say(Template::parse("z is {z}, hit {hits}, {nobody}").unwrap());
    let watch = run_with(vec![action(say), action(Action::Ring)], false, |_| ());
    assert!(lines(&watch).is_empty());
    let missing = "<there is no 'z' here; only locals that were assigned can be read>";
    let first = format!("z is {missing}, hit 1, {}", missing.replace("'z'", "'nobody'"));
    assert_eq!(watch.said.borrow()[..2], [first, "breakpoint 2 was hit".to_owned()]);
    assert_eq!(watch.said.borrow().len(), 6);
}

#[test]
fn a_reloaded_source_is_bound_by_text_when_its_lines_moved() {
    let load = |sources: &mut Sources, text: &str| {
        sources.add(SourceFacts { name: "program".into(), ..TestEngine::new("program", text).facts() })
    };
    let (mut sources, mut store) = (Sources::default(), BreakpointStore::default());
    store.replace(OwnerId(1), |_| true, vec![spec(at(3))]);
    let bound = |store: &mut BreakpointStore, sources: &Sources| {
        let resolved = store.resolve(sources, &[], &|_, _| Vec::new());
        let binding = &resolved[0].status.bindings()[0];
        (binding.place.line.get(), binding.moved)
    };
    load(&mut sources, "fn main\n  a = 1\n  b = 2\n");
    assert_eq!(bound(&mut store, &sources), (3, None));
    load(&mut sources, "fn main\n  a = 1\n  c = 5\n  d = 6\n  b = 2\n");
    assert_eq!(bound(&mut store, &sources), (5, Some(Moved::WithText(Line::new(3).unwrap()))));
    load(&mut sources, "fn main\n  a = 1\n  e = 7\n");
    assert_eq!(bound(&mut store, &sources), (3, None), "its text is gone, so the line counts");
}

#[test]
fn a_function_is_found_by_file_and_name_and_by_the_line_of_its_definition() {
    let engine = TestEngine::new("tools/program.lua", PROGRAM);
    let by = |name: &str| spec(Site::Function { name: name.into() });
    let names = ["program.lua:work", "tools/program.lua:work", "program.lua:8", "program.lua:9", "other.lua:work"];
    let resolved = resolve(&engine, names.iter().map(|name| by(name)).collect());
    let lines: Vec<_> =
        resolved.iter().map(|held| held.status.bindings().first().map(|held| held.place.line.get())).collect();
    assert_eq!(lines, [Some(9), Some(9), Some(9), None, None]);
}

#[test]
fn a_function_holds_its_own_lines_and_not_those_of_inner_ones() {
    let engine = TestEngine::new("program", PROGRAM);
    let mut sources = Sources::default();
    let id = sources.add(engine.facts());
    let lines: LineSet = [9].into_iter().collect();
    let holds = |first, last| sources.get(id).unwrap().function_holds(&lines, first, last);
    assert!(holds(8, 10), "the function itself");
    assert!(!holds(1, 7), "the one before it");
    assert!(!holds(0, 0), "the whole script, whose own lines these are not");
}
