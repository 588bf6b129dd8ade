//! Where a script gives its variables other values, from its text.

use std::collections::{BTreeMap, BTreeSet};

use full_moon::ast::{Assignment, FunctionBody, FunctionDeclaration, Var};
use full_moon::node::Node as _;
use full_moon::tokenizer::TokenReference;
use full_moon::visitors::Visitor;

use super::expressions::with_tree;

/// The statements of a text that give a variable of one of some names another value, whichever variable of that name it is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Assignments {
    /// Behind each of them, in bytes.
    pub(crate) ends: BTreeSet<usize>,
    /// The functions that hold some, and those around these, by their numbers in the order in which they begin; the whole script is 0.
    pub(crate) functions: BTreeSet<usize>,
    /// Names with a statement behind which nothing can be put: one that defines a function belongs to its first line, and ends on
    /// another.
    pub(crate) refused: BTreeSet<String>,
}

impl Assignments {
    /// Reads a text; `None` when it does not parse.
    pub(crate) fn of(text: &str, names: &BTreeSet<String>) -> Option<Self> {
        with_tree(text, |tree| {
            let mut finder = Finder { names, found: Self::default(), around: vec![0], last: 0 };
            finder.visit_ast(tree);
            finder.found
        })
    }

    /// Puts `call` behind each of the statements, in what was put together by the positions of the text.
    pub(crate) fn put(&self, call: &str, into: &mut BTreeMap<usize, String>) {
        for end in &self.ends {
            // What is put before a statement that begins where this one ends comes behind.
            into.entry(*end).or_default().insert_str(0, call);
        }
    }
}

struct Finder<'a> {
    names: &'a BTreeSet<String>,
    found: Assignments,
    /// The functions around what is looked at, by their numbers, and the last number.
    around: Vec<usize>,
    last: usize,
}

impl Finder<'_> {
    fn is_named(&self, token: &TokenReference) -> bool {
        self.names.contains(&token.token().to_string())
    }
}

impl Visitor for Finder<'_> {
    fn visit_assignment(&mut self, node: &Assignment) {
        let is_named = |var: &Var| matches!(var, Var::Name(name) if self.is_named(name));
        if !node.variables().iter().any(is_named) {
            return;
        }
        if let Some(end) = node.end_position() {
            self.found.ends.insert(end.bytes());
            self.found.functions.extend(&self.around);
        }
    }

    fn visit_function_declaration(&mut self, node: &FunctionDeclaration) {
        let mut names = node.name().names().iter();
        if let (Some(name), None, None) = (names.next(), names.next(), node.name().method_name())
            && self.is_named(name)
        {
            self.found.refused.insert(name.token().to_string());
        }
    }

    fn visit_function_body(&mut self, _: &FunctionBody) {
        self.last += 1;
        self.around.push(self.last);
    }

    fn visit_function_body_end(&mut self, _: &FunctionBody) {
        self.around.pop();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_statement_that_assigns_a_name_is_found_and_no_other() {
        let text = "\
local kept, other = 1, 2
local function work(kept)
  other = kept; kept.x = 1
  kept, t.kept = (function() kept = 3 return 4 end)(), 5
  for kept = 1, 2 do print(kept) end
  local kept = {kept = 6}
  return function() return kept end
end
t[kept], kept =
  1,
  2
function t.kept() end
kept()";
        let found = Assignments::of(text, &BTreeSet::from(["kept".to_owned()])).unwrap();
        let mut calls = BTreeMap::new();
        found.put("@", &mut calls);
        let ends: Vec<_> = found.ends.iter().map(|end| text[..*end].rsplit(['\n', ';']).next().unwrap()).collect();
        assert_eq!(
            ends,
            [
                "  kept, t.kept = (function() kept = 3",
                "  kept, t.kept = (function() kept = 3 return 4 end)(), 5",
                "  2",
            ]
        );
        assert_eq!(calls.len(), 3);
        assert_eq!(found.functions, BTreeSet::from([0, 1, 2]));
        assert_eq!(found.refused, BTreeSet::new());
        let of_function = Assignments::of("local f\nfunction f()\nend", &BTreeSet::from(["f".to_owned()])).unwrap();
        assert_eq!(of_function.refused, BTreeSet::from(["f".to_owned()]));
        assert_eq!(Assignments::of("local =", &BTreeSet::new()), None);
    }
}
