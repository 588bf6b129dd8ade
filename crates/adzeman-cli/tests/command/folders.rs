//! What is believed of the runtime folder: nothing that someone else could have planted. As an ordinary user, and once as root.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::os::unix::net::UnixListener;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::json;
use tempfile::TempDir;

use crate::{adzeman, has, text};

/// An ordinary user of every system.
const NOBODY: u32 = 65534;
const ROOT: u32 = 0;

/// Who runs the command, and the runtime folder that is theirs.
struct Someone {
    id: u32,
    /// The command, where they can read it.
    program: PathBuf,
    place: TempDir,
}

fn own_id() -> u32 {
    fs::metadata("/proc/self").unwrap().uid()
}

impl Someone {
    /// Those that this process can be: root can be anyone.
    fn all() -> Vec<Self> {
        let ids = if own_id() == ROOT { vec![NOBODY, ROOT] } else { vec![own_id()] };
        ids.into_iter().map(Self::new).collect()
    }

    fn new(id: u32) -> Self {
        let place = tempfile::tempdir().unwrap();
        fs::set_permissions(place.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let program = place.path().join("adzeman");
        fs::copy(adzeman().get_program(), &program).unwrap();
        let someone = Self { id, program, place };
        fs::create_dir(someone.runtime()).unwrap();
        someone.give(&someone.runtime());
        someone
    }

    /// Makes it theirs.
    fn give(&self, path: &Path) {
        if own_id() != self.id {
            std::os::unix::fs::lchown(path, Some(self.id), Some(self.id)).unwrap();
        }
    }

    fn runtime(&self) -> PathBuf {
        self.place.path().join("runtime")
    }

    fn folder(&self) -> PathBuf {
        self.runtime().join("adzeman")
    }

    /// Makes the folder of announcements, as a host would.
    fn make_folder(&self) {
        fs::create_dir(self.folder()).unwrap();
        fs::set_permissions(self.folder(), fs::Permissions::from_mode(0o700)).unwrap();
        self.give(&self.folder());
    }

    fn command(&self) -> Command {
        let mut command = Command::new(&self.program);
        command.env_remove("ADZEMAN").env("NO_COLOR", "1").env("XDG_RUNTIME_DIR", self.runtime());
        command.current_dir(self.place.path());
        if own_id() != self.id {
            command.uid(self.id).gid(self.id);
        }
        command
    }

    /// Lists hosts; within a time that a hang would exceed.
    fn hosts(&self) -> (bool, String) {
        let mut command = Command::new("timeout");
        let inner = self.command();
        command.arg("20").arg(inner.get_program()).arg("hosts").current_dir(self.place.path());
        command.env("XDG_RUNTIME_DIR", self.runtime()).env("NO_COLOR", "1").env_remove("ADZEMAN");
        if own_id() != self.id {
            command.uid(self.id).gid(self.id);
        }
        let output = command.output().unwrap();
        assert_ne!(output.status.code(), Some(124), "it hangs");
        (output.status.success(), text(&output.stdout) + &text(&output.stderr))
    }

    /// Leaves an announcement of a host that names a socket.
    fn announce(&self, name: &str, socket: &Path) {
        let note = json!({"name": name, "processId": 1, "started": 0, "socket": socket, "token": "0"});
        let file = self.folder().join(format!("{name}.json"));
        fs::write(&file, note.to_string()).unwrap();
        self.give(&file);
    }
}

#[test]
fn a_socket_elsewhere_is_neither_connected_to_nor_removed() {
    for someone in Someone::all() {
        someone.make_folder();
        let precious = someone.place.path().join("precious.sock");
        fs::write(&precious, "mine").unwrap();
        let outside = someone.runtime().join("outside.sock");
        drop(UnixListener::bind(&outside).unwrap());
        someone.give(&precious);
        someone.give(&outside);
        someone.announce("one", &precious);
        someone.announce("two", &outside);
        someone.announce("three", &someone.folder().join("../outside.sock"));
        // In the folder, and no socket.
        let inside = someone.folder().join("file.sock");
        fs::write(&inside, "mine").unwrap();
        someone.give(&inside);
        someone.announce("four", &inside);
        let (done, shown) = someone.hosts();
        assert!(done, "{shown}");
        for kept in [&precious, &outside, &inside] {
            assert!(kept.exists(), "{} was removed as user {}", kept.display(), someone.id);
        }
        // What a killed host left inside is taken away.
        let dead = someone.folder().join("dead.sock");
        drop(UnixListener::bind(&dead).unwrap());
        someone.give(&dead);
        someone.announce("dead", &dead);
        someone.hosts();
        assert!(!dead.exists() && !someone.folder().join("dead.json").exists(), "as user {}", someone.id);
    }
}

#[test]
fn what_is_no_file_of_ours_is_passed_over_and_nothing_waits_for_it() {
    for someone in Someone::all() {
        someone.make_folder();
        let at = |name: &str| someone.folder().join(name);
        assert!(Command::new("mkfifo").arg(at("pipe.json")).status().unwrap().success());
        symlink("/dev/zero", at("zero.json")).unwrap();
        symlink("/etc/passwd", at("link.json")).unwrap();
        fs::create_dir(at("folder.json")).unwrap();
        fs::write(at("large.json"), vec![b' '; 20 << 20]).unwrap();
        fs::write(at("deep.json"), "[".repeat(15_000)).unwrap();
        fs::write(at("bytes.json"), [0xff, 0, 0x80]).unwrap();
        for name in ["pipe.json", "large.json", "deep.json", "bytes.json"] {
            someone.give(&at(name));
        }
        if own_id() == ROOT && someone.id != ROOT {
            // A note of somebody else's, which says where to connect to.
            let note = json!({"name": "false", "processId": 1, "started": 0, "address": "127.0.0.1:1", "token": "0"});
            fs::write(at("false.json"), note.to_string()).unwrap();
            fs::set_permissions(at("false.json"), fs::Permissions::from_mode(0o644)).unwrap();
        }
        let (done, shown) = someone.hosts();
        assert!(done && !shown.contains("false"), "{shown}");
    }
}

#[test]
fn a_folder_that_is_a_link_or_somebody_else_s_is_refused_and_left_alone() {
    for someone in Someone::all() {
        let target = someone.place.path().join("target");
        fs::create_dir(&target).unwrap();
        fs::set_permissions(&target, fs::Permissions::from_mode(0o755)).unwrap();
        someone.give(&target);
        symlink(&target, someone.folder()).unwrap();
        let (done, shown) = someone.hosts();
        assert!(!done, "{shown}");
        has(&shown, &["is no folder of your own", "set XDG_RUNTIME_DIR to a folder that only you can write to"]);
        assert_eq!(fs::metadata(&target).unwrap().mode() & 0o777, 0o755, "its permissions are as they were");
        fs::remove_file(someone.folder()).unwrap();
        // One of the user's own that others could read is closed to them.
        someone.make_folder();
        fs::set_permissions(someone.folder(), fs::Permissions::from_mode(0o755)).unwrap();
        assert!(someone.hosts().0);
        assert_eq!(fs::metadata(someone.folder()).unwrap().mode() & 0o777, 0o700);
        if own_id() == ROOT {
            let other = if someone.id == ROOT { NOBODY } else { ROOT };
            std::os::unix::fs::chown(someone.folder(), Some(other), Some(other)).unwrap();
            fs::set_permissions(someone.folder(), fs::Permissions::from_mode(0o777)).unwrap();
            let (done, shown) = someone.hosts();
            assert!(!done, "{shown}");
            has(&shown, &["belongs to someone else"]);
        }
    }
}

#[test]
fn a_folder_that_others_could_exchange_is_refused() {
    for someone in Someone::all() {
        fs::set_permissions(someone.runtime(), fs::Permissions::from_mode(0o777)).unwrap();
        let (done, shown) = someone.hosts();
        assert!(!done, "{shown}");
        has(&shown, &["someone else could exchange yours"]);
        // As in /tmp.
        fs::set_permissions(someone.runtime(), fs::Permissions::from_mode(0o1777)).unwrap();
        assert!(someone.hosts().0);
        if own_id() == ROOT && someone.id == ROOT {
            std::os::unix::fs::chown(someone.runtime(), Some(NOBODY), Some(NOBODY)).unwrap();
            fs::set_permissions(someone.runtime(), fs::Permissions::from_mode(0o700)).unwrap();
            let (done, shown) = someone.hosts();
            assert!(!done, "root trusts nobody's folder: {shown}");
        }
    }
}

#[test]
fn a_host_of_each_user_is_found_by_that_user() {
    for someone in Someone::all() {
        let mut host = someone.command();
        host.env("ADZEMAN", "dormant").args(["lockside"]);
        host.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
        let mut host = host.spawn().unwrap();
        let until = std::time::Instant::now() + std::time::Duration::from_secs(300);
        while !someone.hosts().1.contains("lockside") {
            assert!(std::time::Instant::now() < until, "it is not found by user {}", someone.id);
        }
        for entry in fs::read_dir(someone.folder()).unwrap() {
            let found = entry.unwrap().metadata().unwrap();
            assert_eq!((found.uid(), found.mode() & 0o777), (someone.id, 0o600));
        }
        host.kill().unwrap();
        host.wait().unwrap();
    }
}
