//! Whole texts and bytes, within bounds.

/// The most of a text that is given at once, so that a reply stays bounded whatever it shows.
pub const MOST_TEXT_BYTES: usize = 1024 * 1024;
/// Bytes in a line of [`hex_lines`].
const BYTES_A_LINE: usize = 16;

/// A text as it is, line breaks included.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct WholeText {
    /// Its first bytes, at most [`MOST_TEXT_BYTES`].
    pub bytes: Vec<u8>,
    /// How many bytes it has in all.
    pub length: usize,
}

impl WholeText {
    /// Takes as much of a text as may be given at once.
    ///
    /// ```
    /// use adzeman_core::value::{MOST_TEXT_BYTES, WholeText};
    /// let text = WholeText::cut(&vec![b'x'; 50_000_000]);
    /// assert_eq!((text.bytes.len(), text.length), (MOST_TEXT_BYTES, 50_000_000));
    /// ```
    #[must_use]
    pub fn cut(text: &[u8]) -> Self {
        Self { bytes: text[..text.len().min(MOST_TEXT_BYTES)].to_vec(), length: text.len() }
    }

    /// Whether some of it was left out.
    #[must_use]
    pub fn is_cut(&self) -> bool {
        self.bytes.len() < self.length
    }
}

/// Bytes in lines of sixteen: the position of the first, the bytes in hexadecimal, and the same as ASCII, with a dot for what
/// does not print.
///
/// ```
/// use adzeman_core::value::hex_lines;
/// let line = "00000000  6c 6f 63 6b 00                                    lock.";
/// assert_eq!(hex_lines(b"lock\0"), [line]);
/// ```
#[must_use]
pub fn hex_lines(bytes: &[u8]) -> Vec<String> {
    let line = |(number, chunk): (usize, &[u8])| {
        let digits: Vec<_> = chunk.iter().map(|byte| format!("{byte:02x}")).collect();
        let printed = |byte: &u8| if byte.is_ascii_graphic() || *byte == b' ' { char::from(*byte) } else { '.' };
        let shown: String = chunk.iter().map(printed).collect();
        format!("{:08x}  {:<48}  {shown}", number * BYTES_A_LINE, digits.join(" "))
    };
    bytes.chunks(BYTES_A_LINE).enumerate().map(line).collect()
}
