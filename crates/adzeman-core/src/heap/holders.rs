//! What keeps a value alive: paths to it from what the state itself holds on to.

use serde::{Deserialize, Serialize};

use super::Written;

/// What a path begins at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub enum Root {
    /// A global variable of the script.
    Globals,
    /// A variable of a function that runs.
    Stack,
    /// The host: its program keeps the value, or what leads to it.
    Host,
    /// The script engine itself, or a library that is loaded into it.
    Engine,
    /// Nothing: the value is held only by values that it holds itself.
    Itself,
}

/// A step of a path.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct HolderStep {
    /// How the step is written behind the one before it: `boats`, `[3]`, `.crew`, ` › captured boat`.
    pub text: String,
    /// What it leads to, in a line.
    pub value: String,
    /// The statement that made the hold, where it is known: the definition of the function that captures the value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub made: Option<Written>,
}

/// One path to a value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Holder {
    /// What it begins at.
    pub root: Root,
    /// Whether its last step keeps nothing alive.
    pub weak: bool,
    /// From the root to the value.
    pub steps: Vec<HolderStep>,
    /// A sentence about it for people, where there is more to say than the steps do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remark: Option<String>,
}

impl Holder {
    /// The whole path in a line.
    #[must_use]
    pub fn path(&self) -> String {
        self.steps.iter().map(|step| step.text.as_str()).collect()
    }

    /// The statement nearest to the value that made a hold.
    #[must_use]
    pub fn made(&self) -> Option<&Written> {
        self.steps.iter().rev().find_map(|step| step.made.as_ref())
    }
}

/// What keeps a value alive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Holders {
    /// The value, in a line.
    pub value: String,
    /// For each that holds it, the shortest path; the shortest of these first. Those that keep nothing alive come last.
    pub holders: Vec<Holder>,
    /// How many hold it; more than there are paths where they were too many.
    pub total: usize,
    /// Values that were looked at.
    pub looked_at: u64,
    /// What looking took besides, in bytes.
    pub own_bytes: u64,
}

impl Holders {
    /// What they come to, as a sentence for people.
    #[must_use]
    pub fn told(&self) -> String {
        let strong = || self.holders.iter().filter(|holder| !holder.weak && holder.root != Root::Itself);
        let weak = self.holders.iter().any(|holder| holder.weak);
        let only = |root| strong().all(|holder| holder.root == root);
        if strong().next().is_none() {
            let but = if self.holders.iter().any(|holder| holder.root == Root::Itself) {
                "only values that it holds itself hold it"
            } else if weak {
                "what holds it keeps nothing alive"
            } else {
                "nothing holds it"
            };
            return format!("{but}: the next collection takes it");
        }
        if only(Root::Host) {
            return "only the host holds it: a handle of its own program keeps it, and nothing of the script does"
                .to_owned();
        }
        if only(Root::Engine) {
            return "only the script engine or a library holds it, and nothing of the script does".to_owned();
        }
        match self.total {
            1 => "one value holds it".to_owned(),
            total => format!("{total} values hold it"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn holder(root: Root, weak: bool) -> Holder {
        let step = |text: &str| HolderStep { text: text.into(), value: "table".into(), made: None };
        Holder { root, weak, steps: vec![step("boats"), step("[3]")], remark: None }
    }

    fn holders(held: Vec<Holder>) -> Holders {
        Holders { value: "{}".into(), total: held.len(), holders: held, looked_at: 9, own_bytes: 0 }
    }

    #[test]
    fn what_holds_a_value_is_said_in_words() {
        let told = |held: &[Holder]| holders(held.to_vec()).told();
        assert_eq!(holder(Root::Globals, false).path(), "boats[3]");
        assert!(told(&[]).starts_with("nothing holds it"));
        assert!(told(&[holder(Root::Itself, false)]).starts_with("only values that it holds itself"));
        assert!(told(&[holder(Root::Globals, true)]).starts_with("what holds it keeps nothing alive"));
        assert!(told(&[holder(Root::Host, false)]).starts_with("only the host holds it"));
        assert_eq!(told(&[holder(Root::Host, false), holder(Root::Globals, false)]), "2 values hold it");
        assert_eq!(told(&[holder(Root::Stack, false)]), "one value holds it");
    }
}
