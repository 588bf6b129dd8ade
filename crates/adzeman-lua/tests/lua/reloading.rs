//! Random programs, changed at random while they are alive: they behave as the new text does with the old state, or, where the change
//! is refused, as before.

use std::fmt::Write as _;

use mlua::{Lua, MultiValue, Table};
use proptest::prelude::*;

use crate::common::reloading;
use crate::versions::{MODES, adapted};

/// Numbers that look random, and are the same for the same seed.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, limit: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % limit
    }

    fn one_of<'a>(&mut self, all: &[&'a str]) -> &'a str {
        all[usize::try_from(self.below(all.len() as u64)).unwrap()]
    }
}

/// The variables around all functions.
const OUTER: [&str; 4] = ["a", "b", "c", "t.n"];

fn expression(numbers: &mut Numbers, names: &[&str], depth: u32) -> String {
    match numbers.below(if depth == 0 { 2 } else { 5 }) {
        0 => numbers.below(9).to_string(),
        1 => numbers.one_of(names).to_owned(),
        2 => format!("math.max({}, {})", expression(numbers, names, depth - 1), expression(numbers, names, depth - 1)),
        _ => {
            let operator = numbers.one_of(&["+", "-", "*"]);
            format!(
                "({} {operator} {}) % 1009",
                expression(numbers, names, depth - 1),
                expression(numbers, names, depth - 1)
            )
        }
    }
}

/// What a function does: statements and a returned expression, of the variables that it may use.
fn body(numbers: &mut Numbers, names: &[&str], callees: &[String]) -> String {
    let mut text = String::new();
    for _ in 0..numbers.below(3) {
        match numbers.below(5) {
            0 => {
                let assigned = numbers.one_of(&OUTER);
                let _ = writeln!(text, "  {assigned} = {}", expression(numbers, names, 2));
            }
            1 => {
                let _ = writeln!(text, "  local x = {}", expression(numbers, names, 1));
            }
            2 => {
                let of = expression(numbers, names, 1);
                let _ = writeln!(text, "  local function inner(y) return y + {of} end\n  x = inner(x)");
            }
            3 => {
                let _ = writeln!(text, "  for i = 1, 2 do x = x + i end");
            }
            _ => {
                let _ = writeln!(text, "  if x > 5 then x = {} end", expression(numbers, names, 1));
            }
        }
        if numbers.below(4) == 0 {
            text.push_str("  -- a remark\n\n");
        }
    }
    let called = callees.get(usize::try_from(numbers.below(callees.len() as u64 + 2)).unwrap());
    let called = called.map_or(String::new(), |callee| format!(" + {callee}(x)"));
    let _ = writeln!(text, "  return {}{called}", expression(numbers, names, 2));
    text
}

/// A program as its parts: the bodies of its functions, and that of those that are made.
#[derive(Clone)]
struct Program {
    functions: Vec<(String, bool, String)>,
    made: String,
    remarks: u64,
}

impl Program {
    fn new(numbers: &mut Numbers) -> Self {
        let mut program = Self { functions: Vec::new(), made: "k + x".to_owned(), remarks: 0 };
        for number in 0..3 + numbers.below(3) {
            program.add(numbers, &format!("f{number}"));
        }
        program
    }

    /// Adds a function, which may call those before it.
    fn add(&mut self, numbers: &mut Numbers, name: &str) {
        let callees: Vec<_> = self.functions.iter().map(|(name, ..)| name.clone()).collect();
        let names = [&OUTER[..], &["x", "x"]].concat();
        let body = body(numbers, &names, &callees);
        self.functions.push((name.to_owned(), numbers.below(2) == 0, body));
    }

    /// The same with some functions written otherwise, some of it moved, and perhaps one more or less.
    fn changed(&self, numbers: &mut Numbers) -> Self {
        let mut program = self.clone();
        let names = [&OUTER[..], &["x", "x"]].concat();
        for at in 0..program.functions.len() {
            if numbers.below(2) == 0 {
                let callees: Vec<_> = program.functions[..at].iter().map(|(name, ..)| name.clone()).collect();
                program.functions[at].2 = body(numbers, &names, &callees);
            }
        }
        if numbers.below(3) == 0 {
            let name = format!("g{}", numbers.below(3));
            if program.functions.iter().all(|(held, ..)| *held != name) {
                program.add(numbers, &name);
            }
        }
        if numbers.below(2) == 0 {
            program.made = expression(numbers, &["k", "x", "a", "b"], 2);
        }
        program.remarks = numbers.below(4);
        program
    }

    /// The names by which its functions can be called, of those that are there.
    fn callable(&self, lua: &Lua) -> Vec<String> {
        let global =
            |(name, is_local, _): &(String, bool, String)| if *is_local { format!("own_{name}") } else { name.clone() };
        let names = self.functions.iter().map(global);
        names.filter(|name| lua.globals().get::<mlua::Function>(name.as_str()).is_ok()).collect()
    }

    fn text(&self) -> String {
        let mut text = "\n".repeat(usize::try_from(self.remarks).unwrap());
        text += "local a, b, c = 1, 2, 3\nlocal t = { n = 4 }\nmade = {}\n";
        for (name, is_local, body) in &self.functions {
            let _ = write!(text, "{}function {name}(x)\n{body}end\n", if *is_local { "local " } else { "" });
            if *is_local {
                let _ = writeln!(text, "own_{name} = {name}");
            }
        }
        let _ = writeln!(
            text,
            "function make(k)\n  local function run(x)\n    k = (k + x) % 1009\n    return {}\n  end",
            self.made
        );
        text += "  made[#made + 1] = { run = run, held = function() return k end }\nend\n";
        text +=
            "function state() return a, b, c, t.n end\nfunction restore(p, q, r, s) a, b, c, t.n = p, q, r, s end\n";
        text
    }
}

/// Calls everything a few times, and tells what came of it.
fn exercised(lua: &Lua, callable: &[String], numbers: &mut Numbers) -> Vec<String> {
    let mut seen = Vec::new();
    let mut call = |name: &str, function: mlua::Function, x: u64| {
        let outcome = function.call::<MultiValue>(x);
        seen.push(match outcome {
            Ok(values) => format!("{name}({x}) = {values:?}"),
            Err(_) => format!("{name}({x}) failed"),
        });
    };
    for _ in 0..12 {
        let x = numbers.below(20);
        match callable.get(usize::try_from(numbers.below(callable.len() as u64 + 1)).unwrap()) {
            Some(name) => call(name, lua.globals().get(name.as_str()).unwrap(), x),
            None => {
                let made: Table = lua.globals().get("made").unwrap();
                for one in made.sequence_values::<Table>() {
                    call("made", one.unwrap().get("run").unwrap(), x);
                }
            }
        }
    }
    let state: mlua::Function = lua.globals().get("state").unwrap();
    seen.push(format!("{:?}", state.call::<MultiValue>(()).unwrap()));
    seen
}

/// A state that never knew another text, with the state of the one given.
fn twin(lua: &Lua, text: &str) -> Lua {
    let twin = Lua::new();
    twin.load(text).set_name("@test.lua").exec().unwrap();
    let of = |lua: &Lua, name: &str| lua.globals().get::<mlua::Function>(name).unwrap();
    let state: MultiValue = of(lua, "state").call(()).unwrap();
    of(&twin, "restore").call::<()>(state).unwrap();
    let made: Table = lua.globals().get("made").unwrap();
    for one in made.sequence_values::<Table>() {
        let held: i64 = one.unwrap().get::<mlua::Function>("held").unwrap().call(()).unwrap();
        of(&twin, "make").call::<()>(held).unwrap();
    }
    twin
}

/// Changes a random program several times; answers how many changes were taken, and how many were refused.
fn check(seed: u64) -> (usize, usize) {
    let mut numbers = Numbers(seed);
    let mut program = Program::new(&mut numbers);
    let armed: Vec<u32> = if numbers.below(2) == 0 { vec![5, 6, 9, 12] } else { Vec::new() };
    let (mut taken, mut refused) = (0, 0);
    reloading(&program.text(), &armed, |lua, reload| {
        let way = adapted(numbers.one_of(&MODES));
        lua.load(way).exec().unwrap();
        for k in 0..3 {
            lua.globals().get::<mlua::Function>("make").unwrap().call::<()>(k).unwrap();
        }
        exercised(lua, &program.callable(lua), &mut numbers);
        for _ in 0..4 {
            let next = program.changed(&mut numbers);
            let done = reload(&next.text()).unwrap();
            if done.is_done {
                taken += 1;
                program = next;
            } else {
                refused += 1;
            }
            lua.gc_step().unwrap();
            let twin = twin(lua, &program.text());
            let same = numbers.below(u64::MAX);
            let callable = program.callable(lua);
            let (ours, theirs) =
                (exercised(lua, &callable, &mut Numbers(same)), exercised(&twin, &callable, &mut Numbers(same)));
            assert_eq!(ours, theirs, "seed {seed}, {:?}, of\n{}", done, program.text());
        }
        lua.gc_collect().unwrap();
        exercised(lua, &program.callable(lua), &mut numbers);
    });
    (taken, refused)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_changed_program_behaves_as_its_new_text_with_its_old_state(seed in any::<u64>()) {
        check(seed);
    }
}
#[test]
fn most_changes_are_taken() {
    let (taken, refused) = (0..40).map(check).fold((0, 0), |sum, one| (sum.0 + one.0, sum.1 + one.1));
    assert!(taken > 2 * refused, "{taken} taken, {refused} refused");
}
