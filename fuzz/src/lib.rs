//! What attacks Adzeman.
//!
//! Each target takes bytes and must come to an end without a panic, on whatever thread. A coverage-guided fuzzer finds bytes
//! for it (`cargo fuzz run session`); `cargo test` runs each on its corpus and on bytes from a fixed seed.
#![forbid(unsafe_code)]

mod client;
mod generate;
mod hostile;
mod panics;
mod session;

use std::io;
use std::path::PathBuf;

use adzeman::discovery::announced_in;
use adzeman_core::breakpoint::Template;
use adzeman_core::engine::Syntax as _;
use adzeman_core::path::{Notation, Path};
use adzeman_core::source::{Language, LineMap, map_reference};
use adzeman_dap::{Decoded, decode};
use adzeman_lua::LuaSyntax;
use arbitrary::Unstructured;

pub use client::Client;
pub use hostile::{ENTRIES, Entry, hostile_text, slow_texts};
pub use panics::{forget_panics, panics, watch_panics};
pub use session::session;

/// Framing: any bytes, in pieces of any length.
///
/// # Panics
/// When a message takes no bytes, or more than there are.
pub fn codec(data: &[u8]) {
    let mut input = Unstructured::new(data);
    let piece = input.int_in_range(1..=64).unwrap_or(1);
    let (mut held, mut whole) = (Vec::new(), 0_usize);
    for bytes in input.take_rest().chunks(piece) {
        held.extend_from_slice(bytes);
        loop {
            match decode(&held) {
                Ok(Decoded::Message { consumed, .. }) => {
                    assert!(consumed > 0 && consumed <= held.len());
                    held.drain(..consumed);
                    whole += 1;
                }
                Ok(Decoded::NeedMore) => break,
                Err(_) => return,
            }
        }
    }
    assert!(whole <= data.len());
}

/// Texts that a person types or a client sends, read without any script state, on a stack as small as threads of hosts have.
///
/// # Panics
/// When reading does.
pub fn expressions(data: &[u8]) {
    let text = generate::text(&mut Unstructured::new(data));
    let reading = std::thread::Builder::new().name("small-stack".to_owned()).stack_size(256 * 1024).spawn(move || {
        let syntax = LuaSyntax;
        let _ = (syntax.check_expression(&text), syntax.check_statement(&text));
        syntax.locals_named(&text, "x");
        syntax.uses_of(&text, "x");
        let _ = Template::parse(&text);
        for base in [0, 1, i64::MAX, i64::MIN] {
            if let Ok(path) = Path::parse(&text, Notation { first_index: base, ..Notation::OF_DATA }) {
                let shown = path.display(Notation::OF_DATA);
                assert!(Path::parse(&shown, Notation::OF_DATA).is_ok_and(|again| again == path), "{text}");
            }
        }
    });
    if let Ok(reading) = reading {
        assert!(reading.join().is_ok(), "reading a text panicked");
    }
}

/// Source maps, as files and inside scripts.
///
/// # Panics
/// When what was read does not fit together.
pub fn source_maps(data: &[u8]) {
    let _ = LineMap::parse(data, "build/keeper.lua");
    let text = String::from_utf8_lossy(data);
    let _ = LineMap::from_url(&format!("data:application/json;base64,{text}"), "keeper.lua");
    let _ = map_reference(&text, &Language::UNKNOWN);
    // Bytes that are a map but for what is in it.
    let mappings: String = text.chars().filter(|c| c.is_ascii_alphanumeric() || "+/,;".contains(*c)).collect();
    let map = serde_json::json!({"version": 3, "sources": ["../a.ts", "\u{20ac}"], "names": [], "mappings": mappings});
    if let Ok(map) = LineMap::parse(map.to_string().as_bytes(), "build/keeper.lua") {
        let lines = (1..200).filter_map(adzeman_core::source::Line::new);
        let found = map.original_lines(lines.clone());
        assert_eq!(found.len(), map.originals.len());
        for line in lines {
            let _ = map.original(line);
        }
    }
}

/// Files in the folder of announcements.
///
/// # Panics
/// When the folder cannot be made, or what is in it is touched.
pub fn announcements(data: &[u8]) {
    let folder = tempfile::tempdir().expect("a folder");
    let inside = folder.path().join("adzeman");
    std::fs::create_dir(&inside).expect("a folder");
    let precious = folder.path().join("precious");
    std::fs::write(&precious, "mine").expect("a file");
    std::fs::write(inside.join("bytes.json"), data).expect("a file");
    let mut input = Unstructured::new(data);
    let note = generate::announcement(&mut input, &precious, &inside);
    std::fs::write(inside.join("note.json"), note).expect("a file");
    for found in announced_in(&inside).expect("it can be read") {
        // A host that listens there would be one that someone else has started.
        if found.announcement.address.is_none() {
            let _ = found.connect();
        }
    }
    assert_eq!(std::fs::read_to_string(&precious).expect("it is there"), "mine");
}

/// Runs a target on the files named by the arguments of the process.
///
/// # Errors
/// When a file cannot be read.
pub fn run_files(target: impl Fn(&[u8])) -> io::Result<()> {
    for file in std::env::args_os().skip(1).map(PathBuf::from) {
        target(&std::fs::read(file)?);
    }
    Ok(())
}
