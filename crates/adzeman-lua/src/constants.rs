//! Local variables that the compiler has removed: those declared `<const>` with a value that it can compute (`lparser.c`,
//! `localstat`) are put in where they are used, and no function has them. Their values are in the text.

use std::collections::HashMap;

use adzeman_core::source::Line;
use full_moon::ast::{
    Ast, Block, Do, ElseIf, Expression, FunctionBody, GenericFor, If, LocalAssignment, LocalFunction, NumericFor,
    Parameter, Repeat, While,
};
use full_moon::node::Node;
use full_moon::tokenizer::{Position, TokenReference};
use full_moon::visitors::Visitor;

use crate::dialect::chunk::prototypes;
use crate::ffi::apart::in_new_state;
use crate::ffi::scalars::scalar_at;
use crate::ffi::state::State;
use crate::text::conditions::Scalar;
use crate::text::expressions::with_tree;

/// What is in every text that declares one.
const ATTRIBUTE: &str = "const";

/// A variable that a script declares.
#[derive(Debug)]
struct Declared {
    name: String,
    /// The bytes of the text in which the name stands for it, unless a later one is called the same.
    from: usize,
    to: usize,
    /// The expression that gives its value, if it is declared as a constant.
    constant: Option<String>,
    /// What it is, if the compiler has removed it.
    removed: Option<Scalar>,
}

/// The variables of a script.
#[derive(Debug)]
pub(crate) struct Declarations {
    declared: Vec<Declared>,
    /// Where each line begins, past blanks, and where it ends.
    lines: Vec<(usize, usize)>,
}

/// The same, if some of them are constants that the compiler has removed.
#[derive(Debug)]
pub(crate) struct Constants(Declarations);

/// What a name is that such a constant has somewhere.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Removed {
    /// It is this.
    Value(Scalar),
    /// More than one, on different parts of the line.
    Unclear,
}

impl Constants {
    /// Whether a script may declare some.
    pub(crate) fn may_be_in(text: &str) -> bool {
        text.contains(ATTRIBUTE)
    }

    /// Those of a script; `None` for one without any.
    pub(crate) fn of(text: &str) -> Option<Self> {
        if !Self::may_be_in(text) {
            return None;
        }
        let mut all = Declarations::of(text)?;
        let declared = &mut all.declared;
        if !declared.iter().any(|held| held.constant.is_some()) {
            return None;
        }
        for at in 0..declared.len() {
            declared[at].removed = removed(&declared[..at], &declared[at]);
        }
        declared.iter().any(|held| held.removed.is_some()).then_some(Self(all))
    }

    /// What a name stands for on a line, if that is a constant that was removed, or may be.
    pub(crate) fn at(&self, line: Line, name: &str) -> Option<Removed> {
        if !self.0.of_name(name).any(|held| held.removed.is_some()) {
            return None;
        }
        let mut found = self.0.meant_on(line, name)?;
        let first = found.next()?;
        let is_same = |other: Option<&Declared>| match (first, other) {
            (Some(one), Some(other)) => std::ptr::eq(one, other),
            (one, other) => one.is_none() && other.is_none(),
        };
        match (found.all(is_same), first) {
            (true, first) => first?.removed.clone().map(Removed::Value),
            (false, _) => Some(Removed::Unclear),
        }
    }
}

impl Declarations {
    /// Those of a script; `None` for a text that does not parse.
    pub(crate) fn of(text: &str) -> Option<Self> {
        let mut declared = with_tree(text, |tree| Finder::find(tree, text))?;
        declared.sort_by_key(|held| held.from);
        let mut at = 0;
        let lines = text.split_inclusive('\n').map(|line| {
            let (begin, end) = (at + line.len() - line.trim_start().len(), at + line.len());
            at = end;
            (begin, end)
        });
        Some(Self { declared, lines: lines.collect() })
    }

    /// Whether a name stands for a variable wherever it stands on a line.
    pub(crate) fn are_in_force(&self, line: Line, name: &str) -> bool {
        self.meant_on(line, name).is_some_and(|mut meant| meant.all(|held| held.is_some()))
    }

    fn of_name<'d>(&'d self, name: &'d str) -> impl DoubleEndedIterator<Item = &'d Declared> + Clone {
        self.declared.iter().filter(move |held| held.name == name)
    }

    /// What a name stands for, from part to part of a line.
    fn meant_on<'d>(&'d self, line: Line, name: &'d str) -> Option<impl Iterator<Item = Option<&'d Declared>>> {
        let (begin, end) = *self.lines.get(line.index())?;
        let all = self.of_name(name);
        // What begins or ends on the line is in force on a part of it only.
        let changes = all.clone().flat_map(|held| [held.from, held.to]).filter(move |at| begin < *at && *at < end);
        let meant = move |at: usize| all.clone().rfind(|held| held.from <= at && at < held.to);
        Some(std::iter::once(begin).chain(changes).map(meant))
    }
}

/// The value of a constant, if the compiler removes it: a function that uses it does not capture it then. Only what is computed by
/// the compiler is run.
fn removed(before: &[Declared], constant: &Declared) -> Option<Scalar> {
    let expression = constant.constant.as_ref()?;
    let is_used = |held: &&Declared| held.to > constant.from && expression.contains(&held.name);
    let around: Vec<_> = before.iter().filter(is_used).map(declaration).collect();
    let name = &constant.name;
    let text = format!("{} local {name} <const> = {expression}\nreturn function() return {name} end", around.concat());
    in_new_state(|state: State| {
        state.load(&text, c"=constant").ok()?;
        let is_removed = {
            let chunk = state.dump(-1);
            prototypes(&chunk)?.get(1)?.captured.is_empty()
        };
        (is_removed && state.call_plainly(0, 1) && state.call_plainly(0, 1)).then(|| scalar_at(state, -1)).flatten()
    })?
}

fn declaration(held: &Declared) -> String {
    match (&held.constant, &held.removed) {
        (Some(expression), Some(_)) => format!("local {} <const> = {expression} ", held.name),
        _ => format!("local {} ", held.name),
    }
}

/// Finds what a text declares.
struct Finder<'t> {
    text: &'t str,
    found: Vec<Declared>,
    /// Where the blocks end that are being looked at, the innermost last.
    ends: Vec<usize>,
    /// What is known of blocks to come, by where they begin: what is declared with them, and where they end, if not with their
    /// last statement.
    expected: HashMap<usize, (Vec<String>, Option<usize>)>,
}

impl<'t> Finder<'t> {
    fn find(tree: &Ast, text: &'t str) -> Vec<Declared> {
        let mut finder = Self { text, found: Vec::new(), ends: Vec::new(), expected: HashMap::new() };
        finder.expect(tree.nodes(), Vec::new(), Some(usize::MAX));
        finder.visit_ast(tree);
        finder.found
    }

    fn expect(&mut self, block: &Block, names: Vec<String>, end: Option<usize>) {
        self.expected.insert(begin_of(block), (names, end));
    }

    fn declare(&mut self, name: String, from: usize, constant: Option<String>) {
        let to = self.ends.last().copied().unwrap_or(usize::MAX);
        self.found.push(Declared { name, from, to, constant, removed: None });
    }
}

fn text_of(token: &TokenReference) -> String {
    token.token().to_string()
}

fn begin_of(node: &impl Node) -> usize {
    node.start_position().map_or(0, Position::bytes)
}

fn begin_of_token(token: &TokenReference) -> usize {
    token.token().start_position().bytes()
}

fn end_of(node: &impl Node) -> usize {
    node.end_position().map_or(0, Position::bytes)
}

impl Visitor for Finder<'_> {
    fn visit_block(&mut self, node: &Block) {
        let (names, end) = self.expected.remove(&begin_of(node)).unwrap_or_default();
        self.ends.push(end.unwrap_or_else(|| end_of(node)));
        for name in names {
            self.declare(name, begin_of(node), None);
        }
    }

    fn visit_block_end(&mut self, _: &Block) {
        self.ends.pop();
    }

    fn visit_function_body(&mut self, node: &FunctionBody) {
        let named = node.parameters().iter().filter_map(|parameter| match parameter {
            Parameter::Name(token) => Some(text_of(token)),
            _ => None,
        });
        // Its last line is still one of it.
        self.expect(node.block(), named.collect(), Some(end_of(node)));
    }

    fn visit_repeat(&mut self, node: &Repeat) {
        // What it repeats is seen by its condition.
        self.expect(node.block(), Vec::new(), Some(end_of(node)));
    }

    fn visit_numeric_for(&mut self, node: &NumericFor) {
        self.expect(node.block(), vec![text_of(node.index_variable())], Some(begin_of_token(node.end_token())));
    }

    fn visit_generic_for(&mut self, node: &GenericFor) {
        self.expect(node.block(), node.names().iter().map(text_of).collect(), Some(begin_of_token(node.end_token())));
    }

    fn visit_do(&mut self, node: &Do) {
        self.expect(node.block(), Vec::new(), Some(begin_of_token(node.end_token())));
    }

    fn visit_while(&mut self, node: &While) {
        self.expect(node.block(), Vec::new(), Some(begin_of_token(node.end_token())));
    }

    fn visit_if(&mut self, node: &If) {
        let last = node.else_token().unwrap_or_else(|| node.end_token());
        let between = node.else_if().map(Vec::as_slice).unwrap_or_default();
        let ends = between.iter().map(begin_of).chain([begin_of_token(last)]);
        let blocks = std::iter::once(node.block()).chain(between.iter().map(ElseIf::block));
        for (block, end) in blocks.zip(ends) {
            self.expect(block, Vec::new(), Some(end));
        }
        if let Some(block) = node.else_block() {
            self.expect(block, Vec::new(), Some(begin_of_token(node.end_token())));
        }
    }

    fn visit_local_function(&mut self, node: &LocalFunction) {
        self.declare(text_of(node.name()), begin_of(node), None);
    }

    fn visit_local_assignment_end(&mut self, node: &LocalAssignment) {
        let from = end_of(node);
        let (names, values) = (node.names().len(), node.expressions().len());
        let attributes: Vec<_> = node.attributes().collect();
        for (at, token) in node.names().iter().enumerate() {
            let is_constant =
                attributes.get(at).copied().flatten().is_some_and(|held| text_of(held.name()) == ATTRIBUTE);
            let is_last = at + 1 == names && names == values;
            let value = (is_constant && is_last).then(|| node.expressions().iter().last()).flatten();
            let constant =
                value.and_then(|value: &Expression| self.text.get(begin_of(value)..end_of(value)).map(str::to_owned));
            self.declare(text_of(token), from, constant);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::versions::{NO_CONSTANTS, is_refused_before};

    const SCRIPT: &str = "\
local k <const> = 6 * 7
local name <const>, other <const> = 'a', -k
local t <const> = {}
local function f(x)
  local y = x + k
  do local k <const> = 'inner'
    y = y .. k
  end
  for k = 1, (function(z) return 2 end)() do
    y = y + k
  end
  return y, other
end
local deep <const> = k // 4 == 10
if t then local k = 1 print(k) local k <const> = true print(k) end
return f
";

    #[test]
    fn what_was_removed_has_its_value_where_it_is_in_force() {
        if is_refused_before("5.4", NO_CONSTANTS) {
            return;
        }
        let constants = Constants::of(SCRIPT).unwrap();
        let at = |line: u32, name: &str| constants.at(Line::new(line).unwrap(), name);
        let value = |scalar| Some(Removed::Value(scalar));
        assert_eq!(at(5, "k"), value(Scalar::Integer(42)));
        assert_eq!(at(7, "k"), value(Scalar::Text(b"inner".to_vec())));
        assert_eq!((at(10, "k"), at(9, "k")), (None, value(Scalar::Integer(42))), "the loop's own");
        assert_eq!(at(12, "other"), value(Scalar::Integer(-42)));
        assert_eq!((at(12, "name"), at(12, "t"), at(12, "deep")), (None, None, None), "which are variables");
        assert_eq!(at(16, "k"), value(Scalar::Integer(42)));
        assert_eq!(at(15, "k"), Some(Removed::Unclear));
        assert_eq!(at(1, "k"), Some(Removed::Unclear), "on a part of the line only");
    }

    #[test]
    fn a_text_without_any_has_none() {
        assert!(Constants::of("local a = 1").is_none());
        assert!(Constants::of("local const = f()").is_none());
        assert!(Constants::of("local x <const> = f(").is_none());
        assert!(Constants::of("local x <const> = f()\nlocal y <close> = nil").is_none());
    }
}
