//! One-line previews with a bounded length.

/// About how many characters a preview may have.
pub const PREVIEW_LIMIT: usize = 96;

/// Builds a preview and stops taking text when it is long enough.
#[derive(Debug, Default)]
pub struct Preview {
    text: String,
    chars: usize,
    full: bool,
}

impl Preview {
    /// Whether more text would be thrown away.
    #[must_use]
    pub fn is_full(&self) -> bool {
        self.full
    }

    /// Adds text, as far as it fits.
    pub fn push(&mut self, text: &str) {
        for character in text.chars() {
            if self.full {
                return;
            }
            if self.chars >= PREVIEW_LIMIT {
                self.text.push('…');
                self.full = true;
                return;
            }
            self.text.push(character);
            self.chars += 1;
        }
    }

    /// Adds bytes as a quoted text: line breaks and quotes escaped, bytes that are no UTF-8 as `\xNN`. Looks only at as
    /// many bytes as can be shown, so a text of any size costs the same.
    pub fn quoted(&mut self, bytes: &[u8]) {
        self.push("\"");
        let shown = &bytes[..bytes.len().min(PREVIEW_LIMIT * 4)];
        for chunk in shown.utf8_chunks() {
            for character in chunk.valid().chars() {
                match character {
                    '"' => self.push("\\\""),
                    '\\' => self.push("\\\\"),
                    '\n' => self.push("\\n"),
                    '\r' => self.push("\\r"),
                    '\t' => self.push("\\t"),
                    control if control.is_control() => self.push(&format!("\\u{{{:x}}}", u32::from(control))),
                    other => self.push(other.encode_utf8(&mut [0; 4])),
                }
                if self.full {
                    return;
                }
            }
            for byte in chunk.invalid() {
                self.push(&format!("\\x{byte:02x}"));
            }
        }
        self.push("\"");
    }

    /// Adds bytes as a quoted text, or when they are no text, as hexadecimal bytes: `bytes 89 50 4e 47`. Whether they are is
    /// told from as many as can be shown.
    pub fn text_or_bytes(&mut self, bytes: &[u8]) {
        if is_text(&bytes[..bytes.len().min(PREVIEW_LIMIT)]) {
            return self.quoted(bytes);
        }
        self.push("bytes");
        for byte in bytes.iter().take(PREVIEW_LIMIT) {
            self.push(&format!(" {byte:02x}"));
        }
    }

    /// Adds `open`, the items with commas between them, and `close`.
    pub fn group<I: Iterator>(&mut self, open: &str, close: &str, items: I, mut write: impl FnMut(&mut Self, I::Item)) {
        self.push(open);
        for (position, item) in items.enumerate() {
            if position > 0 {
                self.push(", ");
            }
            if self.full {
                break;
            }
            write(self, item);
        }
        self.push(close);
    }

    /// The text.
    #[must_use]
    pub fn finish(self) -> String {
        self.text
    }
}

/// Whether bytes are UTF-8 with few control characters, but for a character cut off at the end.
fn is_text(bytes: &[u8]) -> bool {
    let mut strange = 0;
    for chunk in bytes.utf8_chunks() {
        let is_break = |c: char| matches!(c, '\n' | '\r' | '\t' | '\u{1b}');
        strange += chunk.valid().chars().filter(|c| c.is_control() && !is_break(*c)).count() + chunk.invalid().len();
    }
    strange * 3 <= bytes.len()
}

/// A float with at most six decimals, and at least one so that it does not look whole; very large and very small ones as
/// six decimals and a power of ten.
#[must_use]
pub fn short_float(float: f64) -> String {
    if !float.is_finite() || (float != 0.0 && !(1e-4..1e15).contains(&float.abs())) {
        let text = format!("{float:.6e}").replace("NaN", "nan");
        return text.split_once('e').map_or(text.clone(), |(digits, power)| {
            format!("{}e{power}", digits.trim_end_matches('0').trim_end_matches('.'))
        });
    }
    let text = format!("{float:.6}");
    let text = text.trim_end_matches('0');
    if text.ends_with('.') { format!("{text}0") } else { text.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn quoted(bytes: &[u8]) -> String {
        let mut preview = Preview::default();
        preview.quoted(bytes);
        preview.finish()
    }

    #[test]
    fn quotes_breaks_and_bytes_are_escaped() {
        assert_eq!(quoted(b"a\"b\\\n\xff\x01"), "\"a\\\"b\\\\\\n\\xff\\u{1}\"");
        assert_eq!(quoted("Schleuse".as_bytes()), "\"Schleuse\"");
    }

    #[test]
    fn what_is_no_text_shows_as_bytes() {
        let shown = |bytes: &[u8]| {
            let mut preview = Preview::default();
            preview.text_or_bytes(bytes);
            preview.finish()
        };
        assert_eq!(shown(b"\x89PNG\x0d\x0a\x1a\x00\x00\xff"), "bytes 89 50 4e 47 0d 0a 1a 00 00 ff");
        assert_eq!(shown("Schleuse \u{e4}\n".as_bytes()), "\"Schleuse \u{e4}\\n\"");
        assert_eq!(shown(b""), "\"\"");
        assert!(shown(&[0; 50_000_000]).chars().count() <= PREVIEW_LIMIT + 1);
    }

    #[test]
    fn a_huge_text_is_cut() {
        let text = quoted(&vec![b'x'; 50_000_000]);
        assert_eq!(text.chars().count(), PREVIEW_LIMIT + 1);
        assert!(text.ends_with('…'));
    }

    #[test]
    fn floats_are_short_and_never_look_whole() {
        assert_eq!([2.0, 0.1 + 0.2, 1e20, 0.0, -3.25].map(short_float), ["2.0", "0.3", "1e20", "0.0", "-3.25"]);
        assert_eq!([1.388_888_888_342_876_3e-7, -1e-300].map(short_float), ["1.388889e-7", "-1e-300"]);
        assert_eq!(short_float(f64::NAN), "nan");
        assert_eq!(short_float(f64::INFINITY), "inf");
    }
}
