//! A function goes on from another line: on every pair of lines of random functions, as a small machine of the test's own says.

use std::cell::{Cell, RefCell};
use std::fmt::Write as _;
use std::rc::Rc;

use adzeman_core::engine::Engine;
use adzeman_core::source::Line;
use adzeman_core::stepping::StepKind;
use proptest::prelude::*;

use crate::common::{Go, at_line, run_with};
use crate::versions::{NOT_ELSEWHERE, is_refused_before, is_since};

/// A statement, each on a line of its own; variables are called by how many there were before.
#[derive(Debug, Clone)]
enum Statement {
    /// `local vN = ...`
    Local(u8),
    /// Another variable gets another value.
    Assign(u8, u8),
    Log(u8),
    /// A closure of a variable.
    Capture(u8),
    /// What a closure holds is changed through it, and told.
    CallLast,
    If(u8, Vec<Statement>),
    For(u8, Vec<Statement>),
    /// Over an iterator.
    ForIn(u8, Vec<Statement>),
    Block(Vec<Statement>),
    /// With a variable that is closed at its end.
    Closing(Vec<Statement>),
}

/// A statement as the machine runs it, by its line.
#[derive(Debug, Clone, PartialEq)]
enum Op {
    /// A variable comes into scope with this value plus that of another one.
    Local(usize, i64),
    Assign(usize, usize, i64),
    Log(usize),
    Capture(usize),
    CallLast,
    /// Goes on there unless the variable is even.
    Unless(usize, usize),
    /// A loop begins: so many turns, and where it ends.
    Loop(i64, usize),
    /// The next turn begins there.
    Turn(usize),
    /// Variables leave their scope until so many are left.
    Leave(usize),
    ToClose,
    Return,
}

/// What a variable is, which decides where one can go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Plain,
    Loop,
    Closing,
}

/// The variables in scope, by their numbers.
type Scope = Vec<(usize, Kind)>;

#[derive(Debug, Default)]
struct Program {
    text: String,
    line: u32,
    ops: Vec<Op>,
    /// For each line that begins with a statement, its first operation and the variables in scope there.
    starts: Vec<(u32, usize, Scope)>,
    scope: Scope,
    /// The variables of loops.
    turns: Vec<usize>,
    variables: usize,
}

impl Program {
    fn of(body: &[Statement]) -> Self {
        let mut program = Self::default();
        program.write("local out = {}");
        program.write("local function log(v) out[#out + 1] = tostring(v) end");
        program.write("local function closer(n) return setmetatable({}, {__close = function() log('closed') end}) end");
        program.write("local function turns(n) return function(s, i) if i < s then return i + 1 end end, n, 0 end");
        program.write("local last = function() return nil end");
        program.write("local function f(v0)");
        program.enter(Kind::Plain);
        program.block(body);
        program.start();
        program.ops.push(Op::Return);
        program.write("  return v0");
        program.write("end");
        program.write("log(f(3))");
        program.write("return table.concat(out, ' ')");
        program
    }

    fn write(&mut self, line: &str) {
        writeln!(self.text, "{line}").unwrap();
        self.line += 1;
    }

    fn start(&mut self) {
        self.starts.push((self.line + 1, self.ops.len(), self.scope.clone()));
    }

    fn enter(&mut self, kind: Kind) -> usize {
        self.scope.push((self.variables, kind));
        self.variables += 1;
        self.variables - 1
    }

    /// A variable in scope that a script can name.
    fn pick(&self, choice: u8) -> usize {
        let plain: Vec<_> = self.scope.iter().filter(|(_, kind)| *kind == Kind::Plain).collect();
        plain[usize::from(choice) % plain.len()].0
    }

    /// One that it can assign to, too: from Lua 5.5 on those of loops are constants.
    fn pick_to_assign(&self, choice: u8) -> usize {
        let picked = self.pick(choice);
        if is_since("5.5") && self.turns.contains(&picked) { 0 } else { picked }
    }

    fn leave(&mut self, count: usize) {
        self.scope.truncate(count);
        self.ops.push(Op::Leave(count));
    }

    fn block(&mut self, body: &[Statement]) {
        body.iter().for_each(|statement| self.statement(statement));
    }

    fn statement(&mut self, statement: &Statement) {
        match statement {
            Statement::Local(choice) => {
                let other = self.pick(*choice);
                self.start();
                let new = self.enter(Kind::Plain);
                self.ops.push(Op::Local(other, i64::from(*choice)));
                self.write(&format!("  local v{new} = (v{other} or 0) + {choice}"));
            }
            Statement::Assign(a, b) => {
                let (into, from) = (self.pick_to_assign(*a), self.pick(*b));
                self.start();
                self.ops.push(Op::Assign(into, from, i64::from(*b)));
                self.write(&format!("  v{into} = (v{from} or 0) * 2 + {b}"));
            }
            Statement::Log(choice) => {
                let shown = self.pick(*choice);
                self.start();
                self.ops.push(Op::Log(shown));
                self.write(&format!("  log(v{shown})"));
            }
            Statement::Capture(choice) => {
                let held = self.pick_to_assign(*choice);
                self.start();
                self.ops.push(Op::Capture(held));
                self.write(&format!("  last = function() v{held} = (v{held} or 0) + 1 return v{held} end"));
            }
            Statement::CallLast => {
                self.start();
                self.ops.push(Op::CallLast);
                self.write("  log(last())");
            }
            Statement::If(choice, body) => {
                let asked = self.pick(*choice);
                self.start();
                let at = self.ops.len();
                self.ops.push(Op::Return);
                self.write(&format!("  if (v{asked} or 0) % 2 == 0 then"));
                let count = self.scope.len();
                self.block(body);
                self.leave(count);
                self.write("  end");
                self.ops[at] = Op::Unless(asked, self.ops.len());
            }
            Statement::For(turns, body) => self.looped(i64::from(turns % 3), body, "for _, v in nothing", 3),
            Statement::ForIn(turns, body) => self.looped(i64::from(turns % 3), body, "in", 4),
            Statement::Block(body) => {
                self.write("  do");
                let count = self.scope.len();
                self.block(body);
                self.leave(count);
                self.write("  end");
            }
            Statement::Closing(body) => {
                self.write("  do");
                let count = self.scope.len();
                self.start();
                let new = self.enter(Kind::Closing);
                self.ops.push(Op::ToClose);
                self.write(&format!("  local v{new} <close> = closer({new})"));
                self.block(body);
                self.leave(count);
                self.write("  end");
            }
        }
    }

    fn looped(&mut self, turns: i64, body: &[Statement], how: &str, hidden: usize) {
        self.start();
        let at = self.ops.len();
        self.ops.push(Op::Return);
        let count = self.scope.len();
        (0..hidden).for_each(|_| _ = self.enter(Kind::Loop));
        let turn = self.enter(Kind::Plain);
        self.turns.push(turn);
        self.write(&match how {
            "in" => format!("  for v{turn} in turns({turns}) do"),
            _ => format!("  for v{turn} = 1, {turns} do"),
        });
        let first = self.ops.len();
        self.block(body);
        self.ops.push(Op::Leave(count + hidden + 1));
        self.ops.push(Op::Turn(first));
        self.ops[at] = Op::Loop(turns, self.ops.len());
        self.leave(count);
        self.write("  end");
    }

    /// Whether one can go on there, from a line.
    fn is_way(&self, from: u32, to: u32) -> bool {
        let scope = |line: u32| &self.starts.iter().find(|(held, ..)| *held == line).unwrap().2;
        if from == to {
            return false;
        }
        let (from, to) = (scope(from), scope(to));
        let shared = from.iter().zip(to).take_while(|(a, b)| a == b).count();
        let enters = to[shared..].iter().any(|(_, kind)| *kind != Kind::Plain);
        !enters && from[shared..].iter().all(|(_, kind)| *kind != Kind::Closing)
    }
}

type Cells = Vec<Rc<Cell<Option<i64>>>>;

/// Runs a program, which goes on from one line to another when it first comes to that.
fn expected(program: &Program, leap: Option<(u32, u32)>) -> Option<String> {
    let mut out = Vec::new();
    let show = |value: Option<i64>| value.map_or("nil".to_owned(), |value| value.to_string());
    // Variables by their place in the scope.
    let mut cells: Cells = vec![Rc::new(Cell::new(Some(3)))];
    let (mut at, mut scope) = (0, vec![(0, Kind::Plain)]);
    let mut loops: Vec<(usize, i64, i64)> = Vec::new();
    let mut last: Option<Rc<Cell<Option<i64>>>> = None;
    let mut leap = leap;
    let mut was_there = false;
    let start = |line: u32| program.starts.iter().find(|(held, ..)| *held == line).unwrap();
    let mut next_variable = usize::MAX;
    loop {
        if let Some((from, to)) = leap
            && start(from).1 == at
        {
            was_there = true;
            leap = None;
            let (_, op, then) = start(to);
            let shared = scope.iter().zip(then).take_while(|(a, b)| a == b).count();
            cells.truncate(shared);
            scope.truncate(shared);
            let loops_left = scope.iter().filter(|(_, kind)| *kind == Kind::Loop).count();
            loops.truncate(loops_left);
            while loops.iter().map(|(hidden, ..)| *hidden).sum::<usize>() > loops_left {
                loops.pop();
            }
            for variable in &then[shared..] {
                scope.push(*variable);
                cells.push(Rc::new(Cell::new(None)));
            }
            at = *op;
            continue;
        }
        let place =
            |scope: &[(usize, Kind)], variable: usize| scope.iter().position(|(held, _)| *held == variable).unwrap();
        let op = &program.ops[at];
        // What comes into scope has the number that the text gives it.
        if matches!(op, Op::Local(..) | Op::ToClose | Op::Loop(..)) {
            next_variable = program.numbers_at(at);
        }
        at += 1;
        match op {
            Op::Local(other, more) => {
                let value = cells[place(&scope, *other)].get().unwrap_or(0) + more;
                scope.push((next_variable, Kind::Plain));
                cells.push(Rc::new(Cell::new(Some(value))));
            }
            Op::Assign(into, from, more) => {
                let value = cells[place(&scope, *from)].get().unwrap_or(0).wrapping_mul(2).wrapping_add(*more);
                cells[place(&scope, *into)].set(Some(value));
            }
            Op::Log(shown) => out.push(show(cells[place(&scope, *shown)].get())),
            Op::Capture(held) => last = Some(cells[place(&scope, *held)].clone()),
            Op::CallLast => match &last {
                Some(cell) => {
                    cell.set(Some(cell.get().unwrap_or(0).wrapping_add(1)));
                    out.push(show(cell.get()));
                }
                None => out.push("nil".to_owned()),
            },
            Op::Unless(asked, to) => {
                if cells[place(&scope, *asked)].get().unwrap_or(0) % 2 != 0 {
                    at = *to;
                }
            }
            Op::Loop(turns, end) => {
                let hidden = program.hidden_at(at - 1);
                for _ in 0..hidden {
                    scope.push((next_variable, Kind::Loop));
                    cells.push(Rc::new(Cell::new(None)));
                    next_variable += 1;
                }
                loops.push((hidden, *turns, 1));
                if *turns < 1 {
                    at = *end;
                } else {
                    scope.push((next_variable, Kind::Plain));
                    cells.push(Rc::new(Cell::new(Some(1))));
                }
            }
            Op::Turn(first) => {
                let (_, turns, turn) = loops.last_mut().unwrap();
                *turn += 1;
                // Each turn has a variable of its own.
                cells.pop();
                if *turn <= *turns {
                    cells.push(Rc::new(Cell::new(Some(*turn))));
                    at = *first;
                } else {
                    scope.pop();
                }
            }
            Op::Leave(count) => {
                while scope.len() > *count {
                    cells.pop();
                    if let Some((_, Kind::Closing)) = scope.pop() {
                        out.push("closed".to_owned());
                    }
                }
                let hidden = scope.iter().filter(|(_, kind)| *kind == Kind::Loop).count();
                while loops.iter().map(|(hidden, ..)| *hidden).sum::<usize>() > hidden {
                    loops.pop();
                }
            }
            Op::ToClose => {
                scope.push((next_variable, Kind::Closing));
                cells.push(Rc::new(Cell::new(None)));
            }
            Op::Return => {
                let result = cells[0].get();
                while let Some((_, kind)) = scope.pop() {
                    if kind == Kind::Closing {
                        out.push("closed".to_owned());
                    }
                }
                out.push(show(result));
                break;
            }
        }
    }
    (leap.is_none() || was_there).then(|| out.join(" "))
}

impl Program {
    /// The number of the first variable that comes into scope at an operation.
    fn numbers_at(&self, at: usize) -> usize {
        self.numbers().into_iter().find(|(op, _)| *op == at).unwrap().1
    }

    fn hidden_at(&self, at: usize) -> usize {
        let first = self.numbers_at(at);
        self.kinds()[first..].iter().take_while(|kind| **kind == Kind::Loop).count()
    }

    /// The kinds of all variables: what is in scope anywhere, by its number.
    fn kinds(&self) -> Vec<Kind> {
        let mut kinds = vec![Kind::Plain; self.variables];
        for (_, _, scope) in &self.starts {
            scope.iter().for_each(|(number, kind)| kinds[*number] = *kind);
        }
        // A loop without statements has them, too.
        for (op, number) in self.numbers() {
            if let Op::Loop(..) = self.ops[op] {
                let line = self.starts.iter().find(|(_, held, _)| *held == op).unwrap().0;
                let text = self.text.lines().nth(line as usize - 1).unwrap();
                let hidden = if text.contains(" in ") { 4 } else { 3 };
                kinds[number..number + hidden].fill(Kind::Loop);
            }
        }
        kinds
    }

    fn numbers(&self) -> Vec<(usize, usize)> {
        let mut next = 1;
        let mut numbers = Vec::new();
        for (at, op) in self.ops.iter().enumerate() {
            match op {
                Op::Local(..) | Op::ToClose => {
                    numbers.push((at, next));
                    next += 1;
                }
                Op::Loop(..) => {
                    numbers.push((at, next));
                    let line = self.starts.iter().find(|(_, held, _)| *held == at).unwrap().0;
                    let text = self.text.lines().nth(line as usize - 1).unwrap();
                    next += if text.contains(" in ") { 5 } else { 4 };
                }
                _ => {}
            }
        }
        numbers
    }
}

fn body(depth: u32) -> impl Strategy<Value = Vec<Statement>> {
    let leaf = prop_oneof![
        3 => any::<u8>().prop_map(|a| Statement::Local(a % 50)),
        3 => any::<(u8, u8)>().prop_map(|(a, b)| Statement::Assign(a, b % 50)),
        2 => any::<u8>().prop_map(Statement::Log),
        2 => any::<u8>().prop_map(Statement::Capture),
        2 => Just(Statement::CallLast),
    ];
    let statement = leaf.prop_recursive(depth, 9, 3, |inner| {
        let body = || proptest::collection::vec(inner.clone(), 0..4);
        prop_oneof![
            (any::<u8>(), body()).prop_map(|(a, body)| Statement::If(a, body)),
            (any::<u8>(), body()).prop_map(|(a, body)| Statement::For(a, body)),
            (any::<u8>(), body()).prop_map(|(a, body)| Statement::ForIn(a, body)),
            body().prop_map(Statement::Block),
            body().prop_map(Statement::Closing),
        ]
    });
    proptest::collection::vec(statement, 1..7)
}

/// Runs it with a leap, if that is a way; answers whether it was one, and what came of it.
fn leapt(program: &Program, from: u32, to: u32, by_step: bool) -> (Option<Result<(), String>>, String) {
    let told = Rc::new(RefCell::new(None));
    let noted = told.clone();
    let first = program.starts[0].0;
    let breakpoint = at_line(if by_step { first } else { from }, None);
    let ran = run_with(&program.text, vec![breakpoint], move |engine: &mut dyn Engine, line| {
        if noted.borrow().is_some() {
            return Go::Freely;
        }
        if line != from {
            return if by_step { Go::Step(StepKind::Over) } else { Go::Freely };
        }
        let to = Line::new(to).unwrap();
        let way = engine.ways_on().unwrap().remove(&to).expect("the line begins with a statement");
        *noted.borrow_mut() = Some(way.map(|_| ()));
        if let Some(Ok(())) = *noted.borrow() {
            engine.go_from(to).unwrap();
        }
        Go::Freely
    });
    let outcome = ran.outcome.map_or_else(|error| error.to_string(), |value| value.to_string().unwrap());
    let told = told.borrow().clone();
    (told, outcome)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: if cfg!(debug_assertions) { 12 } else { 60 }, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn from_every_line_to_every_other_it_goes_on_as_the_machine_says(body in body(3), by_step in any::<bool>()) {
        if is_refused_before("5.4", NOT_ELSEWHERE) {
            return Ok(());
        }
        let program = Program::of(&body);
        let lines: Vec<u32> = program.starts.iter().map(|(line, ..)| *line).collect();
        prop_assume!(lines.len() <= 16);
        for from in &lines {
            for to in &lines {
                let (told, outcome) = leapt(&program, *from, *to, by_step);
                let Some(way) = told else { continue };
                prop_assert_eq!(way.is_ok(), program.is_way(*from, *to), "{} to {}: {:?} in\n{}", from, to, way, program.text);
                let leap = way.is_ok().then_some((*from, *to));
                let expected = expected(&program, leap).expect("it came to the line");
                prop_assert_eq!(outcome, expected, "from {} to {} (by steps: {}) in\n{}", from, to, by_step, program.text);
            }
        }
    }
}

/// Runs a script that stops once, and goes on from this line there.
fn going_from(script: &str, line: u32) -> String {
    let ran = run_with(script, Vec::new(), move |engine, _| {
        engine.go_from(Line::new(line).unwrap()).unwrap();
        Go::Freely
    });
    ran.outcome.map_or_else(|error| error.to_string(), |value| value.to_string().unwrap())
}

#[test]
fn where_it_cannot_go_on_elsewhere_that_is_said() {
    if is_since("5.4") {
        return;
    }
    let ran = run_with("local x = 1 --stop\nx = 2\nreturn tostring(x)", Vec::new(), |engine, _| {
        let why = engine.go_from(Line::new(3).unwrap()).unwrap_err().to_string();
        assert!(why.contains("this version of Lua has read the next instruction"), "{why}");
        Go::Freely
    });
    assert_eq!(ran.outcome.unwrap().to_string().unwrap(), "2");
}

#[test]
fn what_a_closure_has_captured_stays_its_own_when_the_variable_leaves_its_scope() {
    if is_refused_before("5.4", NOT_ELSEWHERE) {
        return;
    }
    let script = "\
local last
do
  local x = 1
  last = function() return x end
  x = 2 --stop
  x = 3
end
local y = 5
y = y + 1
return last() .. ' ' .. y";
    assert_eq!(going_from(script, 8), "1 6");
    assert_eq!(going_from(script, 6), "3 6");
    let why = going_from(script, 9);
    assert!(why.contains("test.lua:9: attempt to perform arithmetic on a nil value (local 'y')"), "{why}");
}

#[test]
fn every_kind_of_line_says_where_it_can_go_on_from() {
    if is_refused_before("5.4", NOT_ELSEWHERE) {
        return;
    }
    let script = "\
local t = setmetatable({}, {__close = function() end})
local a = 1 --stop
do
  local c <close> = t
  a = 2
end
for k in pairs({1}), nil, nil, t do
  a = k
end
for i = 1, 2 do a = i end
local f = function()
  a = 3
end
if true then
  a = 4; a = 5
end
repeat
  local z = 1
until z
while a < 0 do
  local w = a
  a = w
end
goto done
::done::
return
  a";
    let told = Rc::new(RefCell::new(Vec::new()));
    let noted = told.clone();
    run_with(script, Vec::new(), move |engine, _| {
        let ways = engine.ways_on().unwrap();
        let told = ways.into_iter().map(|(line, way)| match way {
            Ok(way) => format!("{line} {}", way.cleared.join(",")),
            Err(why) => format!("{line}: {why}"),
        });
        noted.borrow_mut().extend(told);
        Go::Freely
    });
    let expected = [
        "1 ",
        "2: it is before line 2 already",
        "3: nothing is left of line 3 in the compiled code",
        "4 a",
        "5: 'c' would have to be closed behind line 5, and would hold nothing",
        "7 a",
        "8: line 8 is in a loop that has not begun",
        "10 a",
        "11: nothing is left of line 11 in the compiled code",
        "14: nothing is left of line 14 in the compiled code",
        "15 a,f",
        "17: nothing is left of line 17 in the compiled code",
        "18 a,f",
        "20 a,f",
        "21 a,f",
        "22 a,f,w",
        "24 a,f",
        "25: nothing is left of line 25 in the compiled code",
        "26: nothing is left of line 26 in the compiled code",
    ];
    assert_eq!(*told.borrow(), expected);
}

#[test]
fn a_coroutine_goes_on_from_another_of_its_lines() {
    if is_refused_before("5.4", NOT_ELSEWHERE) {
        return;
    }
    let script = "\
local out = {}
local function body(n)
  out[#out + 1] = 'begun ' .. n
  local got = coroutine.yield(n)
  out[#out + 1] = 'got ' .. got --stop
  out[#out + 1] = 'done ' .. n
  return n
end
local one, two = coroutine.wrap(body), coroutine.wrap(body)
one(1) two(2)
one('a') two('b')
return table.concat(out, ', ')";
    let stops = Cell::new(0);
    let ran = run_with(script, Vec::new(), move |engine, _| {
        stops.set(stops.get() + 1);
        // The first one yields once more, and is never resumed; the second one passes its line over.
        engine.go_from(Line::new(if stops.get() == 1 { 4 } else { 6 }).unwrap()).unwrap();
        Go::Freely
    });
    assert_eq!(ran.outcome.unwrap().to_string().unwrap(), "begun 1, begun 2, done 2");
}
