//! The trail, at the prompt and from a file.

use std::os::unix::fs::PermissionsExt as _;
use std::process::{Child, Command, Stdio};

use serde_json::Value as Json;

use crate::attaching::User;
use crate::{Lockside, has, text};

/// A host that keeps its trail as the variable says, ended when dropped; it runs frames when this returns.
struct Keeping(Child);

impl Keeping {
    fn start(user: &User, trail: &std::ffi::OsStr) -> Self {
        let mut command = user.command();
        command.env("ADZEMAN", "listen").env("ADZEMAN_TRAIL", trail).args(["lockside", "--fps", "0"]);
        let host = Self(command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
        while user.hosts().is_empty() {}
        let shown = user.session(&["attach", "--batch", "-"], "go next frame.update\n");
        assert!(shown.status.success(), "{}", text(&shown.stderr));
        host
    }
}

impl Drop for Keeping {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn what_happened_is_listed_picked_and_summed_up() {
    let host = Lockside::start(&["--fps", "0"]);
    let commands = "break on record.after_save once\ngo\n\
                    trail last 3 record.before_save\ntrail counts\ntrail slowest\ntrail failed\ntrail when event.cost > 3\n";
    let shown = host.batch(&[], commands);
    let shown = text(&shown.stdout) + &text(&shown.stderr);
    has(
        &shown,
        &[
            "record.before_save  passage 1  ledger",
            "events, of",
            "weather.changed",
            "none of the",
            "'3' is a time: write 5ms, 200us or 1.5s",
        ],
    );
}

#[test]
fn a_host_that_is_told_to_end_has_written_its_trail_and_the_file_answers_like_a_host() {
    let user = User::new();
    let file = user.work.path().join("lockside.trail");
    let mut host = Keeping::start(&user, file.as_os_str());
    assert!(Command::new("kill").args(["-TERM", &host.0.id().to_string()]).status().unwrap().success());
    host.0.wait().unwrap();
    assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    let asked = |arguments: &[&str]| {
        let output = user.command().arg("trail").arg(&file).args(arguments).output().unwrap();
        text(&output.stdout) + &text(&output.stderr)
    };
    has(&asked(&[]), &["the trail of lockside (process ", "why it was written: ", "frame.update", "events, of"]);
    has(&asked(&["counts"]), &["frame.update", "worst"]);
    let refused = asked(&["look", "0"]);
    has(&refused, &["event 0 is not in the trail; it has those from "]);
    let first = refused.rsplit_once("from ").unwrap().1.split(' ').next().unwrap();
    has(&asked(&["look", first]), &[&format!("event {first}: ")]);
    has(&asked(&["trail", "again", first]), &["a file delivers nothing again"]);
    let picture = user.work.path().join("day.svg");
    std::fs::write(&picture, "for all to read").unwrap();
    has(&asked(&["to", picture.to_str().unwrap(), "frame.update", "for", "lock.upper"]), &["events are in"]);
    has(&std::fs::read_to_string(&picture).unwrap(), &["<svg", "lock.upper", "time, s", "events of lockside"]);
    assert_eq!(std::fs::metadata(&picture).unwrap().permissions().mode() & 0o777, 0o600);
    // Lines that are none are told of, and the others are there.
    let mut broken = std::fs::read_to_string(&file).unwrap().lines().take(3).collect::<Vec<_>>().join("\n");
    broken.push_str("\n{\"number\": 1");
    std::fs::write(&file, broken).unwrap();
    has(&asked(&[]), &["line 4 of ", "2 events, of 2 that are kept"]);
    std::fs::write(&file, "return 1\n").unwrap();
    has(&asked(&[]), &["it is no trail: its first line does not say so"]);
}

#[test]
fn a_rare_record_is_delivered_again_to_be_stepped_through() {
    let user = User::new();
    let _host = Keeping::start(&user, "keep".as_ref());
    let first = user.session(
        &["--json", "attach", "--batch", "-"],
        "break on record.after_save once\ngo\ntrail last 1 record.before_save\n",
    );
    let lines: Vec<Json> = text(&first.stdout).lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let entry = lines.iter().find_map(|line| line["report"]["entries"].as_array()?.first()).expect("a record");
    let (number, subject) = (&entry["number"], entry["subject"].as_str().unwrap());
    // It is over when someone else comes, and happens once more for them.
    let commands = format!(
        "break on record.before_save for {subject}\ntrail again {number}\ngo\nlook event.record.boat\ngo over\nremove all\n\
         break on record.after_save say \"saved {{event.subject}}\"\ngo 3 record.before_save\n"
    );
    let again = user.session(&["attach", "--batch", "-"], &commands);
    let shown = text(&again.stdout) + &text(&again.stderr);
    let boat = entry["payload"]["record"]["boat"].as_str().unwrap();
    has(&shown, &["is delivered once more", subject, &format!("\"{boat}\""), "was delivered again"]);
    assert!(!shown.contains(&format!("saved {subject}\n")), "nothing is saved once more:\n{shown}");
}
