//! Hit rules: which of the times that a site is reached count.

use std::fmt;

use thiserror::Error;

/// Which of the times that a site is reached, with its condition met, count as hits.
///
/// ```
/// use adzeman_core::breakpoint::HitRule;
/// let rule: HitRule = "after 2 every 3".parse().unwrap();
/// let counting: Vec<u64> = (1..=11).filter(|time| rule.counts(*time)).collect();
/// assert_eq!(counting, [5, 8, 11]);
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct HitRule {
    /// How many times pass first.
    pub after: u64,
    /// Of the times after that, each one of this number counts; 1 for all, never 0.
    pub every: u64,
    /// Only the first that counts does; then the breakpoint is spent.
    pub once: bool,
}

impl Default for HitRule {
    fn default() -> Self {
        Self { after: 0, every: 1, once: false }
    }
}

/// A text that is no hit rule.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error(
    "'{0}' says not which times count; write 'after N', 'every N', 'once' or several of them, such as 'after 10 once'"
)]
pub struct HitRuleError(pub String);

impl HitRule {
    /// Whether the time with this number, counted from 1, counts.
    #[must_use]
    pub fn counts(self, time: u64) -> bool {
        let beyond = time.saturating_sub(self.after);
        let every = self.every.max(1);
        beyond > 0 && beyond.is_multiple_of(every) && (!self.once || beyond == every)
    }

    /// Whether no later time can count.
    #[must_use]
    pub fn is_spent(self, times: u64) -> bool {
        self.once && times >= self.after.saturating_add(self.every.max(1))
    }
}

/// Our own words, and the forms that editors send as DAP's `hitCondition`: `5` and `== 5` (the fifth alone), `>= 5`, `> 5`,
/// `% 5`.
impl std::str::FromStr for HitRule {
    type Err = HitRuleError;

    fn from_str(text: &str) -> Result<Self, HitRuleError> {
        let unknown = || HitRuleError(text.to_owned());
        let number = |text: &str| text.trim().parse::<u64>().ok().filter(|number| *number > 0).ok_or_else(unknown);
        let rule = Self::default();
        let text = text.trim();
        if let Some(rest) = text.strip_prefix(">=") {
            return Ok(Self { after: number(rest)? - 1, ..rule });
        }
        if let Some(rest) = text.strip_prefix('>') {
            return Ok(Self { after: number(rest)?, ..rule });
        }
        if let Some(rest) = text.strip_prefix('%') {
            return Ok(Self { every: number(rest)?, ..rule });
        }
        let digits = text.trim_start_matches('=');
        if let Ok(nth) = number(digits) {
            return Ok(Self { after: nth - 1, once: true, ..rule });
        }
        let mut words = text.split_whitespace();
        let mut rule = rule;
        while let Some(word) = words.next() {
            match word {
                "after" => rule.after = number(words.next().unwrap_or_default())?,
                "every" => rule.every = number(words.next().unwrap_or_default())?,
                "once" => rule.once = true,
                _ => return Err(unknown()),
            }
        }
        if text.is_empty() { Err(unknown()) } else { Ok(rule) }
    }
}

/// As it is written; nothing for the rule that counts every time.
impl fmt::Display for HitRule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut words = Vec::new();
        if self.after > 0 {
            words.push(format!("after {}", self.after));
        }
        if self.every > 1 {
            words.push(format!("every {}", self.every));
        }
        if self.once {
            words.push("once".to_owned());
        }
        f.write_str(&words.join(" "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn counting(text: &str, expected: &[u64]) {
        let rule: HitRule = text.parse().unwrap();
        let found: Vec<_> = (1..=12).filter(|time| rule.counts(*time)).collect();
        assert_eq!(found, expected, "{text}");
    }

    #[test]
    fn each_form() {
        counting("after 9", &[10, 11, 12]);
        counting("every 5", &[5, 10]);
        counting("once", &[1]);
        counting("after 3 once", &[4]);
        counting("every 4 after 1 once", &[5]);
        counting("5", &[5]);
        counting("== 5", &[5]);
        counting(">= 11", &[11, 12]);
        counting("> 11", &[12]);
        counting("% 6", &[6, 12]);
    }

    #[test]
    fn what_is_no_rule_is_refused_and_rules_print_as_read() {
        for text in ["", "never", "after", "every 0", "0", "after x", "% "] {
            assert!(text.parse::<HitRule>().is_err(), "{text}");
        }
        for text in ["after 3 every 2 once", "once", "every 10"] {
            assert_eq!(text.parse::<HitRule>().unwrap().to_string(), text);
        }
        assert_eq!(HitRule::default().to_string(), "");
    }

    #[test]
    fn once_is_spent_when_it_counted() {
        let rule: HitRule = "after 2 once".parse().unwrap();
        assert_eq!([2, 3, 4].map(|times| rule.is_spent(times)), [false, true, true]);
        assert!(!HitRule::default().is_spent(u64::MAX));
    }
}
