//! Copies of what events carry, bounded.

use std::io::{self, Write};

use serde::Serialize;

use crate::host::EventKind;

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
    pub(super) fn begin(text: &'b mut Vec<u8>, most_bytes: usize, kind: Option<&'b EventKind>) -> Self {
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
        if self.text.len() > self.start + 1 {
            self.text.push(b',');
        }
        let mut bounded = Bounded { text: self.text, most: self.most };
        let named = serde_json::to_writer(&mut bounded, name);
        debug_assert!(named.is_ok(), "there is room for the name");
        self.text.push(b':');
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

    pub(super) fn end(self) {
        self.text.push(b'}');
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
