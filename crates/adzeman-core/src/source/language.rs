//! What a script language is like, as far as it shows outside its engine.

use crate::path::Notation;

/// A script language. Sources say which one they are of, and are read, written and named by its rules, whatever other
/// languages the host runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Language {
    /// Its name, such as `Lua`; engines of one language have the same.
    pub name: &'static str,
    /// What begins a comment that ends with its line.
    pub comment: &'static str,
    /// How paths are written: the number of the first element, and what stands before a field.
    pub notation: Notation,
    /// What stands before the name of a method, where it differs from a field's.
    pub method_separator: char,
    /// What a stack calls the text of a script outside of its functions.
    pub whole_script: &'static str,
}

impl Language {
    /// That of sources of which nothing else is said.
    pub const UNKNOWN: Self = Self {
        name: "",
        comment: "//",
        notation: Notation::OF_DATA,
        method_separator: '.',
        whole_script: "whole script",
    };

    /// The last part of the name of a function: `fare` of `tariff.fare`.
    ///
    /// ```
    /// use adzeman_core::source::Language;
    /// let language = Language { method_separator: '#', ..Language::UNKNOWN };
    /// assert_eq!(language.last_name("boats.Barge#moor"), "moor");
    /// assert_eq!(language.last_name("a:b"), "a:b");
    /// ```
    #[must_use]
    pub fn last_name<'a>(&self, function: &'a str) -> &'a str {
        function.rsplit([self.notation.separator, self.method_separator]).next().unwrap_or(function)
    }
}

impl Default for Language {
    fn default() -> Self {
        Self::UNKNOWN
    }
}
