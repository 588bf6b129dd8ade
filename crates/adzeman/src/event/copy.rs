//! Copies of what events carry, bounded.

use std::io::{self, Write};

use adzeman_core::host::EventKind;
use adzeman_core::trail::Carried;
use serde::Serialize;

/// Bytes of one payload that are kept, and of a subject.
const PAYLOAD_BYTES: usize = 2048;
const SUBJECT_BYTES: usize = 512;

/// Copies what an event is about and what it carries: `write` adds the payload's fields, of which secret ones are left out. Without
/// `write` only the subject. The buffer is taken over.
pub(crate) fn copied(
    subject: Option<&str>,
    kind: Option<&EventKind>,
    mut buffer: Vec<u8>,
    write: Option<&dyn Fn(&mut PayloadCopy<'_>)>,
) -> Carried {
    buffer.clear();
    let subject = subject.map(|subject| {
        let end = (0..=SUBJECT_BYTES.min(subject.len())).rev().find(|at| subject.is_char_boundary(*at)).unwrap_or(0);
        buffer.extend_from_slice(&subject.as_bytes()[..end]);
        end
    });
    if let Some(write) = write {
        let mut copy = PayloadCopy::begin(&mut buffer, PAYLOAD_BYTES, kind);
        write(&mut copy);
        copy.end();
    }
    Carried::new(buffer, subject, write.is_some())
}

/// A payload as JSON text, up to a bound. Fields that do not fit are there by name, with the reason.
#[derive(Debug)]
pub struct PayloadCopy<'b> {
    text: &'b mut Vec<u8>,
    /// Where the payload begins.
    start: usize,
    /// How long the text may become.
    most: usize,
    kind: Option<&'b EventKind>,
}

/// What a field holds that is longer than there is room for.
const TOO_LONG: &str = "\"(too long to be kept)\"";
const SECRET: &str = "\"(secret)\"";

impl<'b> PayloadCopy<'b> {
    fn begin(text: &'b mut Vec<u8>, most_bytes: usize, kind: Option<&'b EventKind>) -> Self {
        let start = text.len();
        text.push(b'{');
        Self { text, start, most: start + most_bytes, kind }
    }

    /// Adds a field. What cannot be read is there with that reason.
    pub fn add<V: Serialize + ?Sized>(&mut self, name: &str, value: &V) {
        // Names are the host's own; a payload of very many fields is cut off.
        if self.text.len() + name.len() + TOO_LONG.len() + 8 > self.most {
            return;
        }
        let is_first = self.text.len() == self.start + 1;
        add_name(self.text, if is_first { "" } else { "," }, name);
        if self.kind.is_some_and(|kind| kind.is_secret(name)) {
            self.text.extend_from_slice(SECRET.as_bytes());
            return;
        }
        let before = self.text.len();
        let mut bounded = Bounded { text: self.text, most: self.most };
        if let Err(error) = serde_json::to_writer(&mut bounded, value) {
            self.text.truncate(before);
            let why =
                if error.is_io() { None } else { serde_json::to_string(&format!("(cannot be shown: {error})")).ok() };
            let why = why.filter(|why| before + why.len() < self.most);
            self.text.extend_from_slice(why.as_deref().unwrap_or(TOO_LONG).as_bytes());
        }
    }

    fn end(self) {
        self.text.push(b'}');
    }
}

/// Adds the name of a field with its colon, behind a comma if there is one. Names have nothing to be escaped, as a rule.
fn add_name(text: &mut Vec<u8>, comma: &str, name: &str) {
    let is_plain = |byte: u8| byte >= b' ' && byte != b'"' && byte != b'\\';
    text.reserve(name.len() + 4);
    text.extend(comma.bytes());
    if name.bytes().all(is_plain) {
        text.push(b'"');
        text.extend_from_slice(name.as_bytes());
        text.extend(*b"\":");
    } else {
        let named = serde_json::to_writer(&mut *text, name);
        debug_assert!(named.is_ok(), "a text can be written to a buffer");
        text.push(b':');
    }
}

/// Takes bytes as long as there is room; serialising ends where there is none, so that it costs no more than what is kept.
struct Bounded<'t> {
    text: &'t mut Vec<u8>,
    most: usize,
}

impl Write for Bounded<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.text.len() + bytes.len() > self.most {
            return Err(io::ErrorKind::StorageFull.into());
        }
        self.text.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use serde_json::{Value as Json, json};

    use super::*;

    fn payload(write: &dyn Fn(&mut PayloadCopy<'_>)) -> Json {
        let kind = EventKind::new("frame.update").secret_field("key", "the key of the gate");
        let carried = copied(Some("lock.über"), Some(&kind), vec![1; 9], Some(write));
        assert_eq!(carried.subject(), Some("lock.über"));
        let text = carried.into_buffer();
        assert!(text.len() < SUBJECT_BYTES + PAYLOAD_BYTES + 1, "{}", text.len());
        serde_json::from_slice(&text["lock.über".len()..]).unwrap()
    }

    #[test]
    fn a_payload_is_copied_as_far_as_it_fits_and_secrets_are_not() {
        struct Unreadable;
        impl Serialize for Unreadable {
            fn serialize<S: serde::Serializer>(&self, _: S) -> Result<S::Ok, S::Error> {
                Err(serde::ser::Error::custom("it is lent"))
            }
        }
        let long = vec![7; 100_000];
        let copied = payload(&|copy| {
            copy.add("dt", &0.1);
            copy.add("key", "open sesame");
            copy.add("long", &long);
            copy.add("lent", &Unreadable);
            copy.add("last \"one\"", "ü");
        });
        let expected = json!({
            "dt": 0.1, "key": "(secret)", "long": "(too long to be kept)", "lent": "(cannot be shown: it is lent)", "last \"one\"": "ü",
        });
        assert_eq!(copied, expected);
        // Very many fields are cut off, and it stays an object.
        assert!(payload(&|copy| (0..1000).for_each(|_| copy.add("a name of some length", &1))).is_object());
    }

    #[test]
    fn a_long_subject_is_cut_between_letters() {
        let carried = copied(Some(&"ü".repeat(1000)), None, Vec::new(), None);
        assert_eq!(carried.subject().map(|subject| subject.chars().count()), Some(SUBJECT_BYTES / 2));
    }
}
