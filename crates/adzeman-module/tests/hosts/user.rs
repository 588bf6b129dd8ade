//! A person with a script, in a folder of their own, and the programs that they start there.

use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use serde_json::Value as Json;
use tempfile::TempDir;

const VERSIONS: [&str; 4] = ["5.1", "5.2", "5.3", "5.4"];

/// The folder that the module is put together in, once.
pub(crate) fn folder() -> &'static Path {
    static FOLDER: OnceLock<PathBuf> = OnceLock::new();
    FOLDER.get_or_init(|| {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("target/module");
        let mut assemble = Command::new(Path::new(env!("CARGO_MANIFEST_DIR")).join("assemble"));
        // The features of this test are none of theirs.
        let status = assemble.arg(&folder).env_remove("CARGO_ENCODED_RUSTFLAGS").status().unwrap();
        assert!(status.success(), "the module could not be put together");
        folder
    })
}

pub(crate) fn command() -> PathBuf {
    let built = || Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/debug/adzeman");
    let path = std::env::var_os("ADZEMAN_COMMAND").map_or_else(built, PathBuf::from);
    assert!(path.exists(), "{} is not there: 'cargo build -p adzeman-cli' builds it", path.display());
    path
}

/// The versions whose interpreters are there.
pub(crate) fn each_version(test: impl Fn(&str)) {
    for version in VERSIONS {
        let is_there = Command::new(format!("lua{version}")).arg("-v").output().is_ok();
        if is_there {
            test(version);
        } else {
            leave_out(&format!("there is no lua{version}"));
        }
    }
}

/// A host that this machine cannot run, which is only so where not all have to be there.
pub(crate) fn leave_out(why: &str) {
    eprintln!("left out: {why}");
    assert!(std::env::var_os("ADZEMAN_ALL_HOSTS").is_none(), "{why}");
}

/// A folder of a script's, with hosts that are announced to its user only.
pub(crate) struct User(pub(crate) TempDir);

impl User {
    pub(crate) fn new(script: &str) -> Self {
        let work = tempfile::tempdir().unwrap();
        std::fs::create_dir(work.path().join("run")).unwrap();
        std::fs::write(work.path().join("canal.lua"), script).unwrap();
        Self(work)
    }

    pub(crate) fn prepared(&self, program: impl AsRef<std::ffi::OsStr>) -> Command {
        let mut command = Command::new(program);
        command.current_dir(self.0.path()).env("XDG_RUNTIME_DIR", self.0.path().join("run"));
        command.env_remove("ADZEMAN").env_remove("ADZEMAN_TOKEN").stdin(Stdio::null());
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
        command
    }

    pub(crate) fn interpreter(&self, version: &str) -> Command {
        let mut command = self.prepared(format!("lua{version}"));
        command.env("LUA_PATH", format!("{}/?.lua;;", folder().display())).arg("canal.lua");
        command
    }

    /// Starts the script, open as `choice` says, and waits until it is announced.
    pub(crate) fn start(&self, version: &str, choice: &str) -> Program {
        let program = Program(Some(self.interpreter(version).env("ADZEMAN", choice).spawn().unwrap()));
        self.await_host(version);
        program
    }

    pub(crate) fn await_host(&self, version: &str) {
        let until = Instant::now() + Duration::from_secs(120);
        while self.hosts().is_empty() {
            assert!(Instant::now() < until, "lua{version} does not announce itself");
        }
    }

    pub(crate) fn hosts(&self) -> Vec<Json> {
        let output = self.prepared(command()).args(["--json", "hosts"]).output().unwrap();
        let line: Json = serde_json::from_slice(&output.stdout).unwrap();
        line["report"]["hosts"].as_array().unwrap().clone()
    }

    /// Has the script end once nobody is attached.
    pub(crate) fn close(&self) {
        self.ended("break at canal.lua:6\ngo\nremove all\nlet is_open = false\n");
    }

    /// The same after some commands. The script may have ended before it has answered that the client leaves.
    pub(crate) fn ended(&self, commands: &str) -> String {
        let shown = text(&self.session(commands).stdout);
        has(&shown, &["is_open is now false"]);
        shown
    }

    /// Attaches, does this, and leaves.
    pub(crate) fn attached(&self, commands: &str) -> String {
        let output = self.session(commands);
        assert!(output.status.success(), "{}{}", text(&output.stdout), text(&output.stderr));
        text(&output.stdout)
    }

    pub(crate) fn session(&self, commands: &str) -> Output {
        fed(self.prepared(command()).args(["attach", "--batch", "-"]), commands)
    }
}

/// Runs a program that is told this on its standard input.
pub(crate) fn fed(program: &mut Command, commands: &str) -> Output {
    let mut child = program.stdin(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(commands.as_bytes()).unwrap();
    child.wait_with_output().unwrap()
}

/// How a whole number is shown.
pub(crate) fn whole(number: &str, version: &str) -> String {
    format!("{number}  {}", if version < "5.3" { "number" } else { "integer" })
}

pub(crate) struct Program(pub(crate) Option<Child>);

impl Program {
    pub(crate) fn ended(mut self) -> Output {
        self.0.take().unwrap().wait_with_output().unwrap()
    }
}

impl Drop for Program {
    fn drop(&mut self) {
        if let Some(child) = &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

pub(crate) fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

#[track_caller]
pub(crate) fn has(text: &str, parts: &[&str]) {
    parts.iter().for_each(|part| assert!(text.contains(part), "'{part}' is not in:\n{text}"));
}
