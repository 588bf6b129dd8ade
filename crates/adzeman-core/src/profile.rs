//! Where time went, by samples of stacks: functions with their own and their total time, and stacks as lines of text.

use std::collections::BTreeMap;
use std::collections::HashMap;
use std::fmt::Write as _;

use serde::{Deserialize, Serialize};

use crate::heap::Written;

/// A function that was met.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Function {
    /// The name it was called by, if any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Where it is defined; nothing for one of the host or of the library.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub defined: Option<Written>,
}

impl Function {
    /// As it is shown in a line.
    #[must_use]
    pub fn title(&self) -> String {
        match (&self.name, &self.defined) {
            (Some(name), Some(defined)) => format!("{name} ({defined})"),
            (None, Some(defined)) => defined.to_string(),
            (Some(name), None) => name.clone(),
            (None, None) => "(a function of the host)".to_owned(),
        }
    }
}

/// A frame of a stack that was met.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Frame {
    /// Which of the functions, from 0.
    pub function: usize,
    /// The line that it was at, from 1; 0 where there is none.
    pub line: u32,
}

/// A stack that was met.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Stack {
    /// The context.
    pub context: String,
    /// The kind of the event that was handled, if one was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub event: Option<String>,
    /// Frames, the outermost first.
    pub frames: Vec<Frame>,
    /// How many samples: each stands for as much time.
    pub samples: u64,
}

/// Samples of stacks.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Profile {
    /// The functions that were met.
    pub functions: Vec<Function>,
    /// The stacks that were met, each once.
    pub stacks: Vec<Stack>,
    /// Samples at which no script ran.
    pub idle: u64,
    /// What taking samples cost the threads of the scripts, in nanoseconds.
    pub spent_nanoseconds: u64,
}

/// The time of one function, in samples.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct FunctionTime {
    /// The function.
    pub function: Function,
    /// Samples in which it ran itself.
    pub own: u64,
    /// Samples in which it was on the stack.
    pub total: u64,
    /// Its lines with the samples in which they ran themselves, the most first.
    pub lines: Vec<(u32, u64)>,
}

impl Profile {
    /// All samples in which a script ran.
    #[must_use]
    pub fn samples(&self) -> u64 {
        self.stacks.iter().map(|stack| stack.samples).sum()
    }

    /// Takes in what was sampled elsewhere.
    pub fn take_in(&mut self, other: Self) {
        let mut known: HashMap<Function, usize> =
            self.functions.iter().enumerate().map(|(at, function)| (function.clone(), at)).collect();
        let mut place = |function: &Function, functions: &mut Vec<Function>| {
            *known.entry(function.clone()).or_insert_with(|| {
                functions.push(function.clone());
                functions.len() - 1
            })
        };
        let places: Vec<usize> = other.functions.iter().map(|function| place(function, &mut self.functions)).collect();
        for mut stack in other.stacks {
            for frame in &mut stack.frames {
                frame.function = places.get(frame.function).copied().unwrap_or(0);
            }
            let held = self
                .stacks
                .iter_mut()
                .find(|held| held.frames == stack.frames && held.event == stack.event && held.context == stack.context);
            match held {
                Some(held) => held.samples += stack.samples,
                None => self.stacks.push(stack),
            }
        }
        self.idle += other.idle;
        self.spent_nanoseconds += other.spent_nanoseconds;
    }

    /// The functions, those with most time of their own first.
    ///
    /// ```
    /// use adzeman_core::profile::{Frame, Function, Profile, Stack};
    ///
    /// let function = |name: &str| Function { name: Some(name.into()), defined: None };
    /// let stack = |frames: &[(usize, u32)], samples| Stack {
    ///     context: "ledger".into(), event: None, samples,
    ///     frames: frames.iter().map(|(function, line)| Frame { function: *function, line: *line }).collect(),
    /// };
    /// let profile = Profile {
    ///     functions: vec![function("update"), function("fare")],
    ///     stacks: vec![stack(&[(0, 3)], 10), stack(&[(0, 4), (1, 9)], 30)],
    ///     ..Profile::default()
    /// };
    /// let times = profile.times();
    /// assert_eq!((times[0].function.title(), times[0].own, times[0].total), ("fare".into(), 30, 30));
    /// assert_eq!((times[1].own, times[1].total), (10, 40));
    /// assert_eq!(profile.folded(), "update 10\nupdate;fare 30\n");
    /// ```
    #[must_use]
    pub fn times(&self) -> Vec<FunctionTime> {
        let mut own = vec![0_u64; self.functions.len()];
        let mut total = own.clone();
        let mut lines: Vec<BTreeMap<u32, u64>> = vec![BTreeMap::new(); self.functions.len()];
        for stack in &self.stacks {
            // One that calls itself is on the stack once.
            let mut seen: Vec<usize> = stack.frames.iter().map(|frame| frame.function).collect();
            seen.sort_unstable();
            seen.dedup();
            for function in seen {
                if let Some(total) = total.get_mut(function) {
                    *total += stack.samples;
                }
            }
            if let Some(frame) = stack.frames.last()
                && let Some(own) = own.get_mut(frame.function)
            {
                *own += stack.samples;
                if frame.line > 0 {
                    *lines[frame.function].entry(frame.line).or_default() += stack.samples;
                }
            }
        }
        let time = |(at, function): (usize, &Function)| {
            let mut lines: Vec<(u32, u64)> = lines[at].iter().map(|(line, samples)| (*line, *samples)).collect();
            lines.sort_by_key(|(line, samples)| (std::cmp::Reverse(*samples), *line));
            FunctionTime { function: function.clone(), own: own[at], total: total[at], lines }
        };
        let mut times: Vec<FunctionTime> = self.functions.iter().enumerate().map(time).collect();
        times.retain(|time| time.total > 0);
        times.sort_by(|a, b| (b.own, b.total, &a.function).cmp(&(a.own, a.total, &b.function)));
        times
    }

    /// The stacks as lines of text, in the format that programs for flame graphs read: frames from the outermost on with `;` between
    /// them, a blank, and how many samples. The event comes first, where there is one.
    #[must_use]
    pub fn folded(&self) -> String {
        let clean = |text: &str| text.replace(';', ",").replace(['\n', '\r'], " ");
        let mut lines: BTreeMap<String, u64> = BTreeMap::new();
        for stack in &self.stacks {
            let frames =
                stack.frames.iter().filter_map(|frame| Some(clean(&self.functions.get(frame.function)?.title())));
            let line: Vec<String> = stack.event.iter().map(|event| clean(event)).chain(frames).collect();
            if !line.is_empty() {
                *lines.entry(line.join(";")).or_default() += stack.samples;
            }
        }
        lines.into_iter().fold(String::new(), |mut text, (line, samples)| {
            let _ = writeln!(text, "{line} {samples}");
            text
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn function(name: &str) -> Function {
        Function { name: Some(name.to_owned()), defined: None }
    }

    fn stack(event: &str, frames: &[usize], samples: u64) -> Stack {
        let frames = frames.iter().map(|function| Frame { function: *function, line: 7 }).collect();
        Stack { context: "a".into(), event: Some(event.to_owned()), frames, samples }
    }

    #[test]
    fn profiles_are_put_together_by_what_functions_are() {
        let mut one = Profile {
            functions: vec![function("f"), function("g")],
            stacks: vec![stack("e", &[0, 1], 3)],
            idle: 5,
            spent_nanoseconds: 10,
        };
        let other = Profile {
            functions: vec![function("g"), function("f"), function("h;x")],
            stacks: vec![stack("e", &[1, 0], 4), stack("e", &[2, 2], 1)],
            idle: 1,
            spent_nanoseconds: 1,
        };
        one.take_in(other);
        assert_eq!((one.samples(), one.idle, one.spent_nanoseconds, one.stacks.len()), (8, 6, 11, 2));
        assert_eq!(one.folded(), "e;f;g 7\ne;h,x;h,x 1\n");
        let times = one.times();
        let recursive = times.iter().find(|time| time.function == function("h;x")).unwrap();
        assert_eq!((recursive.own, recursive.total, &recursive.lines[..]), (1, 1, &[(7, 1)][..]));
    }
}
