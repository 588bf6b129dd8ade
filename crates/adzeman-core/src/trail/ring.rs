//! The last events, in a bounded number of bytes.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use rustc_hash::FxHashMap;

use super::{Entry, Outcome, Said};

/// Bytes of what an event failed with.
const WHY_BYTES: usize = 1024;
/// What is said while one event is handled.
const MOST_SAID: usize = 32;
/// Bytes of what is said at once.
const SAID_BYTES: usize = 512;
/// Contexts of one event.
const MOST_CONTEXTS: usize = 8;
/// Events, and bytes of what they carry, that make a chunk full; and what one takes at most, with what its events point to.
const CHUNK_EVENTS: usize = 256;
const CHUNK_BYTES: usize = 32 << 10;
const CHUNK_MOST_BYTES: usize = 128 << 10;
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
    /// The contexts that it belongs to: numbers, and names.
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
    text: Vec<u8>,
    subject_bytes: usize,
    has_subject: bool,
    has_payload: bool,
}

impl Carried {
    /// The subject, as far as it was copied.
    #[must_use]
    pub fn subject(&self) -> Option<&str> {
        self.has_subject.then(|| std::str::from_utf8(&self.text[..self.subject_bytes]).unwrap_or_default())
    }

    /// What was copied: the subject takes the first bytes of the text, if there is one; the payload is JSON behind it, if it was copied.
    #[must_use]
    pub fn new(text: Vec<u8>, subject_bytes: Option<usize>, has_payload: bool) -> Self {
        let has_subject = subject_bytes.is_some();
        let subject_bytes = subject_bytes.unwrap_or(0).min(text.len());
        Self { text, subject_bytes, has_subject, has_payload }
    }

    /// The buffer, for the next one.
    #[must_use]
    pub fn into_buffer(self) -> Vec<u8> {
        self.text
    }
}

/// An event in a chunk, whose text holds its subject and its payload.
#[derive(Debug, Clone)]
struct Kept {
    number: u64,
    within: u64,
    at: Duration,
    cost: Duration,
    kind: u32,
    context: u32,
    outcome: Outcome,
    has_subject: bool,
    has_payload: bool,
    /// Where its subject begins and ends in the text of its chunk, and its payload behind it.
    text: [u32; 3],
    more: Option<Box<More>>,
}

/// What few events have.
#[derive(Debug, Clone, Default)]
struct More {
    contexts: Vec<u32>,
    budget: Option<Duration>,
    runs: u32,
    why: Option<String>,
    said: Vec<Said>,
}

impl More {
    fn bytes(&self) -> usize {
        let said: usize = self.said.iter().map(|said| said.text.len() + said.of.as_ref().map_or(0, String::len)).sum();
        let why = self.why.as_ref().map_or(0, String::len);
        size_of::<Self>() + why + said + self.said.len() * size_of::<Said>() + self.contexts.len() * size_of::<u32>()
    }
}

/// No context.
const NONE: u32 = u32::MAX;

/// Events, in the order in which they ended, that come and go together.
#[derive(Debug, Clone, Default)]
struct Chunk {
    events: Vec<Kept>,
    text: Vec<u8>,
    /// What its events point to.
    more_bytes: usize,
}

impl Chunk {
    /// How many bytes it takes, with what it points to.
    fn bytes(&self) -> usize {
        size_of::<Self>() + self.events.capacity() * size_of::<Kept>() + self.text.capacity() + self.more_bytes
    }
}

/// Names by small numbers.
#[derive(Debug, Clone, Default)]
struct Names {
    all: Vec<Arc<str>>,
    by_name: FxHashMap<Arc<str>, u32>,
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

/// The last events, within a bound of bytes. Adding one costs no more than itself; the first ones go a chunk at a time.
#[derive(Debug)]
pub struct Ring {
    full: VecDeque<Arc<Chunk>>,
    /// The chunk that is being filled.
    last: Chunk,
    /// What the full ones take.
    full_bytes: usize,
    most_bytes: usize,
    dropped: u64,
    kinds: Names,
    contexts: Names,
    last_context: Option<(i64, u32)>,
}

impl Ring {
    /// An empty one.
    #[must_use]
    pub fn new(most_bytes: usize) -> Self {
        let (kinds, contexts) = (Names::default(), Names::default());
        let (full, last) = (VecDeque::new(), Chunk::default());
        Self { full, last, full_bytes: 0, most_bytes, dropped: 0, kinds, contexts, last_context: None }
    }

    /// Takes an event, with what was said meanwhile and why it failed; the first ones go where there is no room. The buffer that its copy
    /// was made in is left.
    pub fn add(&mut self, happened: &mut Happened<'_>) {
        let start = self.last.text.len();
        self.last.text.extend_from_slice(&happened.carried.text);
        let place = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
        let text = [start, start + happened.carried.subject_bytes, self.last.text.len()].map(place);
        let (first, others) = happened.contexts.split_at(happened.contexts.len().min(1));
        let context = first.first().map_or(NONE, |(id, name)| self.context(*id, name));
        let has_more = happened.contexts.len() > 1
            || happened.budget.is_some()
            || happened.runs > 1
            || happened.why.is_some()
            || !happened.said.is_empty();
        let more = has_more.then(|| {
            let others = others.iter().take(MOST_CONTEXTS);
            let contexts = others.map(|(_, name)| self.contexts.number(name)).collect();
            let mut said = std::mem::take(&mut happened.said);
            said.truncate(MOST_SAID);
            said.iter_mut().for_each(|said| cut_text(&mut said.text, SAID_BYTES));
            let why = happened.why.take().map(|mut why| {
                cut_text(&mut why, WHY_BYTES);
                why
            });
            Box::new(More { contexts, budget: happened.budget, runs: happened.runs, why, said })
        });
        self.last.more_bytes += more.as_ref().map_or(0, |more| more.bytes());
        self.last.events.push(Kept {
            number: happened.number,
            within: happened.within,
            at: happened.at,
            cost: happened.cost,
            kind: self.kinds.number(happened.kind),
            context,
            outcome: happened.outcome,
            has_subject: happened.carried.has_subject,
            has_payload: happened.carried.has_payload,
            text,
            more,
        });
        let bytes = self.last.text.len() + self.last.more_bytes;
        if self.last.events.len() >= CHUNK_EVENTS || bytes >= CHUNK_BYTES {
            self.begin_chunk();
        }
    }

    /// The number of a context's name: mostly that of the event before.
    fn context(&mut self, id: i64, name: &str) -> u32 {
        match self.last_context {
            Some((last, number)) if last == id => number,
            _ => {
                let number = self.contexts.number(name);
                self.last_context = Some((id, number));
                number
            }
        }
    }

    /// The last chunk is full.
    fn begin_chunk(&mut self) {
        let mut full = std::mem::take(&mut self.last);
        // The next one is about as large.
        self.last.events.reserve(CHUNK_EVENTS.min(full.events.len() + 1));
        self.last.text.reserve(CHUNK_BYTES.min(full.text.len()));
        full.text.shrink_to_fit();
        full.events.shrink_to_fit();
        self.full_bytes += full.bytes();
        self.full.push_back(Arc::new(full));
        let room = self.most_bytes.saturating_sub(CHUNK_MOST_BYTES);
        while self.full_bytes > room
            && let Some(first) = self.full.pop_front()
        {
            self.full_bytes -= first.bytes();
            self.dropped += u64::try_from(first.events.len()).unwrap_or(0);
        }
    }

    /// Forgets all of them, and gives their memory back.
    pub fn clear(&mut self) {
        *self = Self::new(self.most_bytes);
    }

    /// How much may be kept, in bytes, from now on; less than 256 KiB is as much as that.
    pub fn set_most_bytes(&mut self, most_bytes: usize) {
        self.most_bytes = most_bytes.max(2 * CHUNK_MOST_BYTES);
    }

    /// Those that are there now. It takes as long as one chunk is copied; who looks at them holds nobody up.
    #[must_use]
    pub fn look(&self) -> Trail {
        Trail {
            chunks: self.full.iter().cloned().chain([Arc::new(self.last.clone())]).collect(),
            kinds: self.kinds.clone(),
            contexts: self.contexts.clone(),
            dropped: self.dropped,
            bytes: self.full_bytes + self.last.bytes(),
            most_bytes: self.most_bytes,
        }
    }
}

/// The events that were in a ring at a moment.
#[derive(Debug, Clone)]
pub struct Trail {
    chunks: Vec<Arc<Chunk>>,
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
        let of_chunk =
            |chunk: &Arc<Chunk>| -> Vec<_> { chunk.events.iter().map(|kept| self.entry(kept, &chunk.text)).collect() };
        let mut entries: Vec<_> = self.chunks.iter().flat_map(of_chunk).collect();
        entries.sort_by_key(|entry| entry.number);
        entries
    }

    fn entry(&self, kept: &Kept, text: &[u8]) -> Entry {
        let [start, middle, end] = kept.text.map(|at| usize::try_from(at).unwrap_or(0));
        let (subject, payload) = (&text[start..middle], &text[middle..end]);
        let more = kept.more.as_deref().cloned().unwrap_or_default();
        let first = (kept.context != NONE).then_some(kept.context);
        Entry {
            number: kept.number,
            seconds: kept.at.as_secs_f64(),
            event: self.kinds.name(kept.kind),
            subject: kept.has_subject.then(|| String::from_utf8_lossy(subject).into_owned()),
            within: (kept.within != 0).then_some(kept.within),
            contexts: first.into_iter().chain(more.contexts).map(|number| self.contexts.name(number)).collect(),
            milliseconds: kept.cost.as_secs_f64() * 1000.0,
            budget_milliseconds: more.budget.map(|budget| budget.as_secs_f64() * 1000.0),
            outcome: kept.outcome,
            why: more.why,
            runs: more.runs.max(1),
            payload: serde_json::from_slice(payload).unwrap_or_default(),
            payload_left_out: (!kept.has_payload)
                .then(|| "copying it would have taken more than the trail's share of the time".to_owned()),
            said: more.said,
        }
    }
}

/// As much of a text as fits into so many bytes.
fn cut(text: &str, most: usize) -> &str {
    if text.len() <= most {
        return text;
    }
    let end = (0..=most).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    &text[..end]
}

fn cut_text(text: &mut String, most: usize) {
    let end = cut(text, most).len();
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

    fn carried(payload: &str) -> Carried {
        let subject = "lock.über";
        Carried::new(format!("{subject}{payload}").into_bytes(), Some(subject.len()), true)
    }

    #[test]
    fn the_first_ones_go_where_there_is_no_room_and_the_bound_holds() {
        let mut ring = Ring::new(0);
        ring.set_most_bytes(1 << 20);
        for number in 1..=20_000 {
            let text = "x".repeat(usize::try_from(number % 300).unwrap());
            ring.add(&mut happened(number, carried(&format!("{{\"text\":\"{text}\"}}"))));
        }
        let trail = ring.look();
        let entries = trail.entries();
        assert!((800 << 10..=1 << 20).contains(&trail.bytes), "{}", trail.bytes);
        assert_eq!(trail.dropped + u64::try_from(entries.len()).unwrap(), 20_000);
        assert_eq!(entries.last().unwrap().number, 20_000);
        let entry = &entries[0];
        assert_eq!((entry.subject.as_deref(), entry.milliseconds), (Some("lock.über"), 1.5));
        assert_eq!(entry.contexts, ["lock.upper", "ledger", "lock.lower"]);
        ring.clear();
        assert!(ring.look().bytes < 200 && ring.look().entries().is_empty());
    }

    #[test]
    fn an_entry_is_a_line_of_a_file_and_back() {
        let mut ring = Ring::new(20_000);
        let mut failed = Happened {
            outcome: Outcome::Failed,
            why: Some("no water".into()),
            runs: 3,
            ..happened(1, Carried::default())
        };
        ring.add(&mut failed);
        let entry = ring.look().entries().remove(0);
        let line = serde_json::to_string(&entry).unwrap();
        assert_eq!(serde_json::from_str::<Entry>(&line).unwrap(), entry, "{line}");
        assert!(line.contains(r#""outcome":"failed","why":"no water","runs":3"#), "{line}");
    }
}
