//! Paths to a value as a graph, in the DOT language.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use adzeman::core::heap::{Holders, Root};

/// What paths begin at.
fn root(root: Root) -> &'static str {
    match root {
        Root::Globals => "globals",
        Root::Stack => "what runs",
        Root::Host => "the host",
        Root::Engine => "the engine",
        Root::Itself => "the value itself",
    }
}

/// Draws what holds a value: one node for each value on the ways, one arrow for each hold; what keeps nothing alive is dashed.
pub(crate) fn of_holders(expression: &str, holders: &Holders) -> String {
    let mut text =
        format!("digraph {} {{\n  rankdir=LR;\n  node [shape=box, fontname=\"sans-serif\"];\n", quoted(expression));
    let last = quoted("");
    let label = quoted(&format!("{expression}\n{}", holders.value));
    let _ = writeln!(text, "  {last} [label={label}, style=bold];");
    let mut drawn = BTreeSet::new();
    for holder in &holders.holders {
        let begin = format!("({})", root(holder.root));
        let mut from = quoted(&begin);
        drawn.insert(format!("  {from} [label={}, shape=plaintext];", quoted(root(holder.root))));
        let mut path = begin;
        for (number, step) in (1..).zip(&holder.steps) {
            path.push_str(&step.text);
            let is_last = number == holder.steps.len();
            let to = if is_last { last.clone() } else { quoted(&path) };
            if !is_last {
                drawn.insert(format!("  {to} [label={}];", quoted(&step.value)));
            }
            let style = if is_last && holder.weak { ", style=dashed" } else { "" };
            drawn.insert(format!("  {from} -> {to} [label={}{style}];", quoted(step.text.trim())));
            from = to;
        }
    }
    drawn.iter().for_each(|line| text += &format!("{line}\n"));
    text + "}\n"
}

/// A text as the DOT language has it.
fn quoted(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            '\n' => quoted.push_str("\\n"),
            c if c.is_control() => quoted.push(' '),
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}

#[cfg(test)]
mod tests {
    use adzeman::core::heap::{Holder, HolderStep};

    use super::*;

    #[test]
    fn ways_that_begin_the_same_are_drawn_once_and_odd_texts_are_harmless() {
        let step = |text: &str| HolderStep { text: text.into(), value: "a \"b\\\n".into(), made: None };
        let holder = |last: &str, weak| Holder {
            root: Root::Globals,
            weak,
            steps: vec![step("boats"), step(last)],
            remark: None,
        };
        let held = vec![holder("[1]", false), holder("[2]", true)];
        let holders = Holders { value: "{}".into(), total: 2, holders: held, looked_at: 9, own_bytes: 1 };
        let text = of_holders("boats[1]", &holders);
        assert_eq!(text.matches("label=\"boats\"]").count(), 1, "{text}");
        assert_eq!(text.matches("style=dashed").count(), 1, "{text}");
        assert!(text.contains(r#"label="a \"b\\\n""#), "{text}");
    }
}
