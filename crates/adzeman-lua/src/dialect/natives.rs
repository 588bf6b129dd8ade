//! The constants that stand for native functions in a script's text, until it is compiled.

/// The constants that stand for native functions in a text.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct Natives {
    /// Reports the line.
    pub(crate) report: String,
    /// Reports that a variable may have another value.
    pub(crate) assigned: String,
    /// Reads a field of a table.
    pub(crate) field: String,
    /// Tests one: whether it is true, or the same as a constant.
    pub(crate) test: String,
    /// Reads or tests a part of the host's data.
    pub(crate) host: String,
    /// Counts a time that a line is reached.
    pub(crate) count: String,
    /// Tells whether a table and a key are those of a watched value.
    pub(crate) name: String,
    /// Hands out what a function sees as its globals that uses none.
    pub(crate) globals: String,
}

impl Natives {
    /// Constants that no text holds in which `is_free`, short enough to be the same object wherever they are.
    pub(crate) fn unused(is_free: impl Fn(&str) -> bool) -> Self {
        let numbered = |number: u32| Self {
            report: format!("line reached {number}"),
            assigned: format!("value assigned {number}"),
            field: format!("field read {number}"),
            test: format!("field tested {number}"),
            host: format!("host read {number}"),
            count: format!("time counted {number}"),
            name: format!("value named {number}"),
            globals: format!("globals seen {number}"),
        };
        let mut candidates = (0..).map(numbered);
        let are_free = |held: &Self| {
            is_free(&held.report) && is_free(&held.assigned) && held.asked().iter().all(|text| is_free(text))
        };
        candidates.find(are_free).unwrap_or_default()
    }

    /// Those that filters call ([`asked`](crate::ffi::asked)).
    pub(crate) fn asked(&self) -> [&String; 6] {
        [&self.field, &self.test, &self.host, &self.count, &self.name, &self.globals]
    }
}

#[cfg(test)]
impl Natives {
    /// Of one letter each.
    pub(crate) fn short() -> Self {
        Self {
            report: "m".into(),
            assigned: "a".into(),
            field: "f".into(),
            test: "t".into(),
            host: "h".into(),
            count: "c".into(),
            name: "n".into(),
            globals: "g".into(),
        }
    }
}
