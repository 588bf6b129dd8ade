//! Where a call can be put into a script's text, so that it runs each time a line is reached.
//!
//! The call stands at the start of the first statement that begins on the line, in each function that has one there, with a
//! semicolon before and behind it: what is before it cannot take it for a part, and it cannot take those of the statement. No
//! line moves, and no local variable changes its register. What tells of an assignment stands behind its statement, in the same way.
//!
//! What is called is a constant. It becomes a native function, which compiled code cannot be written with: the engine writes
//! nil. So the call is made only if the constant is not nil, and a function that the host writes out while its line is armed
//! runs elsewhere as if nothing had been put in.

use std::collections::BTreeMap;

use adzeman_core::source::{Line, LineSet};
use full_moon::ast::{FunctionBody, LastStmt, Stmt};
use full_moon::visitors::Visitor;

use super::assigned::Assignments;
use super::expressions::with_tree;
use super::filters::Filter;
use crate::dialect::natives::Natives;
use crate::dialect::{Dialect as _, Version};

/// Why no call can be put on a line.
const IN_A_STATEMENT: &str = "the line is inside a statement that begins above it";
const A_LOOP: &str = "a loop begins on the line, which is reached at each turn";
pub(crate) const NOT_PARSED: &str = "the text of the source is not known, or does not parse";

/// The call that reports a line, behind a filter if there is one.
pub(crate) fn call(natives: &Natives, filter: Option<&Filter>) -> String {
    let mut condition = String::new();
    if let Some(text) = filter.and_then(|filter| filter.text(natives)) {
        for called in natives.asked().into_iter().filter(|called| text.contains(&format!("(\"{called}\")"))) {
            condition += &format!("\"{called}\" ~= nil and ");
        }
        condition += &format!("({text}) and ");
    }
    let report = &natives.report;
    apart(&format!("if {condition}\"{report}\" ~= nil then (\"{report}\")() end"))
}

/// The call that tells that a variable was given a value.
pub(crate) fn call_behind(natives: &Natives) -> String {
    let assigned = &natives.assigned;
    apart(&format!("if \"{assigned}\" ~= nil then (\"{assigned}\")() end"))
}

/// A statement that stands between two others: neither takes it for a part of itself.
fn apart(statement: &str) -> String {
    if Version::HAS_EMPTY_STATEMENTS { format!(";{statement};") } else { format!(" {statement} ") }
}

/// The statements of a text, by the lines they begin on.
#[derive(Debug, Default)]
pub(crate) struct Statements {
    /// Where statements begin on a line, by lines: the first of each function.
    starts: Vec<Start>,
    /// The functions around what is looked at while the text is read, by their numbers, and how many there were.
    functions: Vec<u32>,
    last_function: u32,
}

#[derive(Debug)]
struct Start {
    line: u32,
    function: u32,
    byte: u32,
    /// Whether a loop begins on the line, in this function.
    is_loop: bool,
}

impl Statements {
    /// Reads a text; `None` when it does not parse.
    pub(crate) fn of(text: &str) -> Option<Self> {
        with_tree(text, |tree| {
            let mut statements = Self::default();
            statements.visit_ast(tree);
            statements.sorted()
        })
    }

    /// One start for each line and function.
    fn sorted(mut self) -> Self {
        self.starts.sort_unstable_by_key(|start| (start.line, start.function, start.byte));
        self.starts.dedup_by(|start, first| {
            let is_same = (start.line, start.function) == (first.line, first.function);
            first.is_loop |= is_same && start.is_loop;
            is_same
        });
        self.starts.shrink_to_fit();
        self
    }

    /// Where statements begin on a line.
    fn on(&self, line: Line) -> &[Start] {
        let first = self.starts.partition_point(|start| start.line < line.get());
        let count = self.starts[first..].partition_point(|start| start.line == line.get());
        &self.starts[first..first + count]
    }

    /// Which of the lines can hold a call, and which cannot, and why.
    pub(crate) fn places(&self, lines: &LineSet) -> (LineSet, Vec<(Line, &'static str)>) {
        let (mut placed, mut refused) = (LineSet::default(), Vec::new());
        for line in lines.iter() {
            match self.on(line) {
                [] => refused.push((line, IN_A_STATEMENT)),
                starts if starts.iter().any(|start| start.is_loop) => refused.push((line, A_LOOP)),
                _ => placed.insert(line),
            }
        }
        (placed, refused)
    }

    /// Puts a call that reports on each of the lines, which are among the [`places`](Self::places), behind its filter if it has
    /// one; and one behind each of the statements that assign.
    pub(crate) fn with_calls(
        &self,
        text: &str,
        placed: &LineSet,
        assigned: &Assignments,
        natives: &Natives,
        filters: &BTreeMap<Line, Filter>,
    ) -> String {
        let of_line = |line: Line| self.on(line).iter().map(move |start| (line, start.byte as usize));
        let sites = placed.iter().flat_map(of_line);
        let mut calls: BTreeMap<usize, String> =
            sites.map(|(line, at)| (at, call(natives, filters.get(&line)))).collect();
        assigned.put(&call_behind(natives), &mut calls);
        let mut out = String::with_capacity(text.len());
        let mut from = 0;
        for (at, call) in calls {
            out.push_str(&text[from..at]);
            out.push_str(&call);
            from = at;
        }
        out.push_str(&text[from..]);
        out
    }

    fn add(&mut self, node: &impl full_moon::node::Node, is_loop: bool) {
        let Some(start) = node.start_position() else { return };
        let Ok(line) = u32::try_from(start.line()) else { return };
        let Ok(byte) = u32::try_from(start.bytes()) else { return };
        let function = self.functions.last().copied().unwrap_or(0);
        self.starts.push(Start { line, function, byte, is_loop });
    }
}

impl Visitor for Statements {
    fn visit_stmt(&mut self, node: &Stmt) {
        let is_loop = matches!(node, Stmt::While(_) | Stmt::Repeat(_) | Stmt::NumericFor(_) | Stmt::GenericFor(_));
        self.add(node, is_loop);
    }

    fn visit_last_stmt(&mut self, node: &LastStmt) {
        self.add(node, false);
    }

    fn visit_function_body(&mut self, _: &FunctionBody) {
        self.last_function += 1;
        self.functions.push(self.last_function);
    }

    fn visit_function_body_end(&mut self, _: &FunctionBody) {
        self.functions.pop();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::versions::{adapted, is_since};

    #[track_caller]
    fn check(text: &str, lines: &[u32], expected: &str) {
        let lines: LineSet = lines.iter().copied().collect();
        let statements = Statements::of(text).unwrap();
        let natives = Natives { report: "m".into(), ..Natives::default() };
        let (placed, refused) = statements.places(&lines);
        let instrumented = statements.with_calls(text, &placed, &Assignments::default(), &natives, &BTreeMap::new());
        assert_eq!(instrumented.replace(&call(&natives, None), "@"), expected);
        mlua::Lua::new().load(&instrumented).into_function().unwrap();
        let all = placed.iter().count() + refused.len();
        assert_eq!(all, lines.iter().count(), "every line is accounted for");
    }

    #[test]
    fn a_call_stands_before_the_first_statement_of_its_line() {
        check("local x = 1\nx = x + 1; x = 2\nreturn x", &[1, 2, 3], "@local x = 1\n@x = x + 1; x = 2\n@return x");
        let marked = adapted("do local a <const>, b <close> = 1, nil end");
        check(&marked, &[1], &format!("@{marked}"));
    }

    #[test]
    fn parentheses_and_calls_without_them_stay_what_they_are() {
        check(
            "local f = print;\n(f or print)(1)\nf 'x'\nf {}\n",
            &[2, 3, 4],
            "local f = print;\n@(f or print)(1)\n@f 'x'\n@f {}\n",
        );
        // Without the semicolon, the second line goes on with the first, which 5.1 does not let it.
        if is_since("5.2") {
            check("local f = print\n(f or print)(1)\n", &[2], "local f = print\n(f or print)(1)\n");
        }
    }

    #[test]
    fn long_strings_comments_and_labels_are_no_statements() {
        let strings = "local s = [[\nx = 1\n]] -- x = 2\n--[[ y()\n]] local t = 1\n";
        let called = strings.replace("]] local", "]] @local");
        let labels = if is_since("5.2") { "goto done\n::done::\n" } else { "" };
        check(&format!("{strings}{labels}"), &[2, 3, 5, 6], &format!("{called}{}", labels.replace("goto", "@goto")));
    }

    #[test]
    fn each_function_has_a_call_on_a_line_of_several() {
        let text = "on('open', function(g) g.level = 0; g.wet = true end) f()\nlocal h = function() return function() return 1 end end";
        let expected = "@on('open', function(g) @g.level = 0; g.wet = true end) f()\n@local h = function() @return function() @return 1 end end";
        check(text, &[1, 2], expected);
    }

    #[test]
    fn loops_and_the_middle_of_statements_are_refused() {
        let text = "for i = 1, 3 do\n  print(i,\n    2)\nend\nrepeat\n  local x = 1\nuntil x\nwhile false do break end";
        let lines: LineSet = [1, 2, 3, 6, 7, 8].into_iter().collect();
        let (placed, refused) = Statements::of(text).unwrap().places(&lines);
        assert_eq!(placed.iter().map(Line::get).collect::<Vec<_>>(), [2, 6]);
        let refused: Vec<_> = refused.iter().map(|(line, why)| (line.get(), *why)).collect();
        assert_eq!(refused, [(1, A_LOOP), (3, IN_A_STATEMENT), (7, IN_A_STATEMENT), (8, A_LOOP)]);
    }

    #[test]
    fn what_tells_of_an_assignment_stands_behind_its_statement() {
        let text = "local x, s\nx = 1; x = 2 (f or g)(x)\nx=''s=''\nif s then x = s end";
        let names = ["x", "s"].map(str::to_owned).into();
        let (statements, assigned) = (Statements::of(text).unwrap(), Assignments::of(text, &names).unwrap());
        let natives = Natives::short();
        let instrumented = |lines: &[u32]| {
            let lines: LineSet = lines.iter().copied().collect();
            let text = statements.with_calls(text, &lines, &assigned, &natives, &BTreeMap::new());
            mlua::Lua::new().load(&text).into_function().unwrap();
            text.replace(&call_behind(&natives), "!").replace(&call(&natives, None), "@")
        };
        // A number is not called: what follows is a statement of its own.
        assert_eq!(instrumented(&[]), "local x, s\nx = 1!; x = 2! (f or g)(x)\nx=''!s=''!\nif s then x = s! end");
        assert_eq!(instrumented(&[3]), "local x, s\nx = 1!; x = 2! (f or g)(x)\n@x=''!s=''!\nif s then x = s! end");
    }

    #[test]
    fn what_does_not_parse_is_not_touched() {
        assert!(Statements::of("local = 1").is_none());
    }
}
