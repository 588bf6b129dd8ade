//! The example that the README shows to host authors, run as they would run it.

use std::io::{BufRead as _, BufReader};
use std::path::PathBuf;
use std::process::{Command, Stdio};

/// Examples are built beside the tests.
fn example() -> PathBuf {
    let mut folder = std::env::current_exe().unwrap();
    folder.pop();
    folder.pop();
    folder.join("examples").join(format!("minimal_host{}", std::env::consts::EXE_SUFFIX))
}

#[test]
fn the_example_says_how_to_attach_and_runs_to_its_end() {
    let mut child = Command::new(example()).arg("12").stdout(Stdio::piped()).spawn().unwrap();
    let lines: Vec<_> = BufReader::new(child.stdout.take().unwrap()).lines().map(Result::unwrap).collect();
    assert!(child.wait().unwrap().success());
    assert!(lines[0].starts_with("attach with: cargo run -- attach 127.0.0.1:"), "{lines:?}");
    assert_eq!(lines[1..], ["pumping for the\t1\ttime"]);
}

#[test]
fn the_example_is_as_small_as_the_readme_says() {
    let text = include_str!("../examples/minimal_host.rs");
    assert!(text.lines().count() < 60);
}
