//! The last events, in a bounded number of bytes.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;

use super::copy::PayloadCopy;
use super::{Entry, Outcome, Said};
use crate::host::EventKind;

/// Bytes of one payload that are kept.
const PAYLOAD_BYTES: usize = 2048;
/// Bytes of what an event failed with.
const WHY_BYTES: usize = 1024;
/// What is said while one event is handled.
const MOST_SAID: usize = 32;
/// Bytes of what is said at once.
const SAID_BYTES: usize = 512;
/// Contexts of one event.
const MOST_CONTEXTS: usize = 8;
/// Names of kinds and contexts that are told apart.
const MOST_NAMES: usize = 10_000;
/// What stands for a name that is one too many.
const ANOTHER: &str = "(another one)";

/// An event that has ended.
#[derive(Debug)]
pub struct Happened<'a> {
    /// Its number.
    pub number: u64,
    /// The event inside whose handler it was raised; 0 for none.
    pub within: u64,
    /// When it began.
    pub at: Duration,
    /// Its kind.
    pub kind: &'a str,
    /// The contexts that ran: numbers, and names.
    pub contexts: &'a [(i64, &'a str)],
    /// What its handlers took.
    pub cost: Duration,
    /// How much they may take.
    pub budget: Option<Duration>,
    /// What came of it.
    pub outcome: Outcome,
    /// Why it was refused, or with what it failed.
    pub why: Option<String>,
    /// How often its handlers ran.
    pub runs: u32,
    /// What was said meanwhile.
    pub said: Vec<Said>,
    /// What it was about, and what it carried.
    pub carried: Carried,
}

/// What an event was about and what it carried, copied when it began.
#[derive(Debug, Default)]
pub struct Carried {
    /// The subject, and the payload as JSON behind it.
    text: Box<str>,
    subject_bytes: u32,
    has_subject: bool,
    has_payload: bool,
}

impl Carried {
    /// The subject, as far as it was copied.
    #[must_use]
    pub fn subject(&self) -> Option<&str> {
        let bytes = usize::try_from(self.subject_bytes).unwrap_or(0);
        self.has_subject.then(|| &self.text[..bytes])
    }

    /// Copies them: `write` adds the payload's fields, of which secret ones are left out. Without `write` only the subject.
    pub fn copy(
        subject: Option<&str>,
        kind: Option<&EventKind>,
        buffer: &mut Vec<u8>,
        write: Option<&dyn Fn(&mut PayloadCopy<'_>)>,
    ) -> Self {
        buffer.clear();
        buffer.extend_from_slice(cut(subject.unwrap_or_default(), SAID_BYTES).as_bytes());
        let subject_bytes = u32::try_from(buffer.len()).unwrap_or(0);
        if let Some(write) = write {
            let mut copy = PayloadCopy::begin(buffer, PAYLOAD_BYTES, kind);
            write(&mut copy);
            copy.end();
        }
        let text = std::str::from_utf8(buffer).unwrap_or_default().into();
        Self { text, subject_bytes, has_subject: subject.is_some(), has_payload: write.is_some() }
    }
}

#[derive(Debug)]
struct Kept {
    number: u64,
    within: u64,
    at: Duration,
    cost: Duration,
    budget: Option<Duration>,
    kind: u32,
    runs: u32,
    contexts: [u32; 2],
    more_contexts: Vec<u32>,
    outcome: Outcome,
    why: Option<Box<str>>,
    said: Vec<Said>,
    carried: Carried,
}

/// No context.
const NONE: u32 = u32::MAX;

impl Kept {
    /// How many bytes it takes, with what it points to.
    fn bytes(&self) -> usize {
        let said: usize = self.said.iter().map(|said| said.text.len() + said.of.as_ref().map_or(0, String::len)).sum();
        let own = size_of::<Self>() + size_of::<Arc<Self>>() + 16;
        let pointed = self.why.as_ref().map_or(0, |why| why.len()) + self.carried.text.len();
        own + pointed + said + self.said.len() * size_of::<Said>() + self.more_contexts.len() * 4
    }
}

/// Names by small numbers.
#[derive(Debug, Clone, Default)]
struct Names {
    all: Vec<Arc<str>>,
    by_name: HashMap<Arc<str>, u32>,
    /// The one asked for last: mostly the next one, too.
    last: Option<u32>,
}

impl Names {
    fn number(&mut self, name: &str) -> u32 {
        if let Some(last) = self.last.filter(|last| self.get(*last) == Some(name)) {
            return last;
        }
        let number = match self.by_name.get(name) {
            Some(number) => *number,
            None if self.all.len() > MOST_NAMES => return NONE - 1,
            None => {
                let number = u32::try_from(self.all.len()).unwrap_or(NONE - 1);
                let name: Arc<str> = name.into();
                self.all.push(name.clone());
                self.by_name.insert(name, number);
                number
            }
        };
        self.last = Some(number);
        number
    }

    fn get(&self, number: u32) -> Option<&str> {
        self.all.get(usize::try_from(number).ok()?).map(|name| &**name)
    }

    fn name(&self, number: u32) -> String {
        self.get(number).unwrap_or(ANOTHER).to_owned()
    }
}

/// The last events, within a bound of bytes. Adding one costs no more than itself and those that go for it.
#[derive(Debug)]
pub struct Ring {
    kept: VecDeque<Arc<Kept>>,
    bytes: usize,
    most_bytes: usize,
    dropped: u64,
    kinds: Names,
    contexts: Names,
}

impl Ring {
    /// An empty one.
    #[must_use]
    pub fn new(most_bytes: usize) -> Self {
        let (kinds, contexts) = (Names::default(), Names::default());
        Self { kept: VecDeque::new(), bytes: 0, most_bytes, dropped: 0, kinds, contexts }
    }

    /// Takes an event; the first ones go where there is no room.
    pub fn add(&mut self, happened: Happened<'_>) {
        let mut contexts = happened.contexts.iter().take(MOST_CONTEXTS).map(|(_, name)| self.contexts.number(name));
        let first = [contexts.next().unwrap_or(NONE), contexts.next().unwrap_or(NONE)];
        let more_contexts = contexts.collect();
        let mut said = happened.said;
        said.truncate(MOST_SAID);
        said.iter_mut().for_each(|said| cut_text(&mut said.text, SAID_BYTES));
        let kept = Kept {
            number: happened.number,
            within: happened.within,
            at: happened.at,
            cost: happened.cost,
            budget: happened.budget,
            kind: self.kinds.number(happened.kind),
            runs: happened.runs,
            contexts: first,
            more_contexts,
            outcome: happened.outcome,
            why: happened.why.map(|why| cut(&why, WHY_BYTES).into()),
            said,
            carried: happened.carried,
        };
        self.bytes += kept.bytes();
        self.kept.push_back(Arc::new(kept));
        while self.bytes > self.most_bytes
            && let Some(first) = self.kept.pop_front()
        {
            self.bytes -= first.bytes();
            self.dropped += 1;
        }
    }

    /// Forgets all of them, and gives their memory back.
    pub fn clear(&mut self) {
        *self = Self::new(self.most_bytes);
    }

    /// How much may be kept, in bytes, from now on.
    pub fn set_most_bytes(&mut self, most_bytes: usize) {
        self.most_bytes = most_bytes;
    }

    /// Those that are there now. Who looks holds nobody up.
    #[must_use]
    pub fn look(&self) -> Trail {
        Trail {
            kept: self.kept.iter().cloned().collect(),
            kinds: self.kinds.clone(),
            contexts: self.contexts.clone(),
            dropped: self.dropped,
            bytes: self.bytes,
            most_bytes: self.most_bytes,
        }
    }
}

/// The events that were in a ring at a moment.
#[derive(Debug, Clone)]
pub struct Trail {
    kept: Vec<Arc<Kept>>,
    kinds: Names,
    contexts: Names,
    /// How many have gone for them.
    pub dropped: u64,
    /// How many bytes they take.
    pub bytes: usize,
    /// How many they may take.
    pub most_bytes: usize,
}

impl Trail {
    /// All of them, in the order in which they began.
    #[must_use]
    pub fn entries(&self) -> Vec<Entry> {
        let mut entries: Vec<_> = self.kept.iter().map(|kept| self.entry(kept)).collect();
        entries.sort_by_key(|entry| entry.number);
        entries
    }

    fn entry(&self, kept: &Kept) -> Entry {
        let Carried { text, subject_bytes, has_subject, has_payload } = &kept.carried;
        let (subject, payload) = text.split_at(usize::try_from(*subject_bytes).unwrap_or(0));
        let contexts = kept.contexts.iter().chain(&kept.more_contexts).filter(|number| **number != NONE);
        Entry {
            number: kept.number,
            seconds: kept.at.as_secs_f64(),
            event: self.kinds.name(kept.kind),
            subject: has_subject.then(|| subject.to_owned()),
            within: (kept.within != 0).then_some(kept.within),
            contexts: contexts.map(|number| self.contexts.name(*number)).collect(),
            milliseconds: kept.cost.as_secs_f64() * 1000.0,
            budget_milliseconds: kept.budget.map(|budget| budget.as_secs_f64() * 1000.0),
            outcome: kept.outcome,
            why: kept.why.as_deref().map(str::to_owned),
            runs: kept.runs,
            payload: serde_json::from_str(payload).unwrap_or_default(),
            payload_left_out: (!has_payload)
                .then(|| "copying it would have taken more than the trail's share of the time".to_owned()),
            said: kept.said.clone(),
        }
    }
}

/// As much of a text as fits into so many bytes.
fn cut(text: &str, most: usize) -> &str {
    &text[..text.floor_char_boundary(most)]
}

fn cut_text(text: &mut String, most: usize) {
    let end = text.floor_char_boundary(most);
    text.truncate(end);
}

#[cfg(test)]
mod tests {
    use super::*;

    fn happened(number: u64, carried: Carried) -> Happened<'static> {
        Happened {
            number,
            within: 0,
            at: Duration::from_millis(number),
            kind: "frame.update",
            contexts: &[(1, "lock.upper"), (2, "ledger"), (3, "lock.lower")],
            cost: Duration::from_micros(1500),
            budget: None,
            outcome: Outcome::Done,
            why: None,
            runs: 1,
            said: Vec::new(),
            carried,
        }
    }

    fn carried(write: &dyn Fn(&mut PayloadCopy<'_>)) -> Carried {
        let kind = EventKind::new("frame.update").secret_field("key", "the key of the gate");
        Carried::copy(Some("lock.über"), Some(&kind), &mut Vec::new(), Some(write))
    }

    #[test]
    fn the_first_ones_go_where_there_is_no_room_and_the_bound_holds() {
        let mut ring = Ring::new(20_000);
        for number in 1..=1000 {
            let text = "x".repeat(usize::try_from(number % 300).unwrap());
            ring.add(happened(number, carried(&|copy| copy.add("text", &text))));
        }
        let trail = ring.look();
        let entries = trail.entries();
        assert!(trail.bytes <= 20_000 && trail.bytes > 18_000, "{}", trail.bytes);
        assert_eq!(trail.dropped + u64::try_from(entries.len()).unwrap(), 1000);
        assert_eq!(entries.last().unwrap().number, 1000);
        let entry = &entries[0];
        assert_eq!((entry.subject.as_deref(), entry.milliseconds), (Some("lock.über"), 1.5));
        assert_eq!(entry.contexts, ["lock.upper", "ledger", "lock.lower"]);
        ring.clear();
        assert_eq!((ring.look().bytes, ring.look().entries().len()), (0, 0));
    }

    #[test]
    fn a_payload_is_copied_as_far_as_it_fits_and_secrets_are_not() {
        struct Unreadable;
        impl serde::Serialize for Unreadable {
            fn serialize<S: serde::Serializer>(&self, _: S) -> Result<S::Ok, S::Error> {
                Err(serde::ser::Error::custom("it is lent"))
            }
        }
        let long = vec![7; 100_000];
        let mut ring = Ring::new(20_000);
        ring.add(happened(
            1,
            carried(&|copy| {
                copy.add("dt", &0.1);
                copy.add("key", "open sesame");
                copy.add("long", &long);
                copy.add("lent", &Unreadable);
                copy.add("last \"one\"", "ü");
            }),
        ));
        let entry = ring.look().entries().remove(0);
        let expected = serde_json::json!({
            "dt": 0.1, "key": "(secret)", "long": "(too long to be kept)", "lent": "(cannot be shown: it is lent)", "last \"one\"": "ü",
        });
        assert_eq!(entry.payload, expected);
        // Very many fields are cut off, and it stays an object.
        ring.add(happened(2, carried(&|copy| (0..1000).for_each(|_| copy.add("a name of some length", &1)))));
        assert!(ring.look().entries().remove(1).payload.is_object());
    }

    #[test]
    fn an_entry_is_a_line_of_a_file_and_back() {
        let mut ring = Ring::new(20_000);
        let failed = Happened {
            outcome: Outcome::Failed,
            why: Some("no water".into()),
            runs: 3,
            ..happened(1, Carried::default())
        };
        ring.add(failed);
        let entry = ring.look().entries().remove(0);
        let line = serde_json::to_string(&entry).unwrap();
        assert_eq!(serde_json::from_str::<Entry>(&line).unwrap(), entry, "{line}");
        assert!(line.contains(r#""outcome":"failed","why":"no water","runs":3"#), "{line}");
    }
}
