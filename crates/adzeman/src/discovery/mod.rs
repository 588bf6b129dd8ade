//! Finding the hosts of this user: each host that can be reached leaves a note in a folder that only its user can read.
//!
//! The folder is `adzeman` within `$XDG_RUNTIME_DIR`, or `~/.local/state/adzeman/run` where there is none. A note is a JSON
//! file named after the host and its process; what it says is an [`Announcement`].

mod connection;
mod folder;

use std::fs;
use std::io::{self, Write as _};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};

pub use connection::Connection;

/// Notes that are read at most.
const MOST_NOTES: usize = 10_000;
/// Where there are more notes, those of hosts that are gone are taken away, whoever is looked for.
const MANY_NOTES: usize = 100;

/// What a host says of itself to its own user.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Announcement {
    /// The host's name.
    pub name: String,
    /// Its process.
    pub process_id: u32,
    /// When it started, in seconds since 1970.
    pub started: u64,
    /// The address it listens on, if it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<SocketAddr>,
    /// Its local socket, where there are such.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub socket: Option<PathBuf>,
    /// What it asks of every client that comes over TCP.
    pub token: String,
}

/// Without the token, which is for nobody's log.
impl std::fmt::Debug for Announcement {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Announcement")
            .field("name", &self.name)
            .field("process_id", &self.process_id)
            .field("address", &self.address)
            .field("socket", &self.socket)
            .finish_non_exhaustive()
    }
}

/// An announcement, and the file it was read from.
#[derive(Debug, Clone)]
pub struct Found {
    /// What the host says.
    pub announcement: Announcement,
    file: PathBuf,
    /// The local socket, if it is where it has to be.
    socket: Option<PathBuf>,
}

/// The folder of announcements, made if it is not there.
///
/// # Errors
/// When it cannot be made, belongs to someone else, is a link, or others could put another one in its place.
pub fn folder() -> io::Result<PathBuf> {
    let from = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let folder = from("XDG_RUNTIME_DIR")
        .map(|folder| folder.join("adzeman"))
        .or_else(|| from("HOME").map(|home| home.join(".local/state/adzeman/run")))
        .or_else(|| from("LOCALAPPDATA").map(|data| data.join("adzeman").join("run")))
        .ok_or_else(|| io::Error::other("neither XDG_RUNTIME_DIR nor HOME says where to keep it"))?;
    folder::prepare(&folder)?;
    Ok(folder)
}

/// The announcements that are there, by name and start. Those of hosts that are gone may be among them: only
/// [`Found::connect`] tells.
///
/// # Errors
/// When the folder cannot be read.
pub fn announced() -> io::Result<Vec<Found>> {
    announced_in(&folder()?)
}

/// The same of a folder that is known to be the user's own.
///
/// # Errors
/// When the folder cannot be read.
pub fn announced_in(folder: &Path) -> io::Result<Vec<Found>> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder)? {
        let file = entry?.path();
        let is_note = file.extension().is_some_and(|extension| extension == "json");
        if is_note && let Some(announcement) = read(&file) {
            found.push(Found { socket: own_socket(&announcement, folder), announcement, file });
        }
        if found.len() == MOST_NOTES {
            break;
        }
    }
    if found.len() > MANY_NOTES {
        found.retain(|found| !found.has_gone());
    }
    found.sort_by(|a, b| {
        let key = |found: &Found| {
            (found.announcement.name.clone(), found.announcement.started, found.announcement.process_id)
        };
        key(a).cmp(&key(b))
    });
    Ok(found)
}

/// What a file announces; nothing if it is no announcement, or is just being taken away.
fn read(file: &Path) -> Option<Announcement> {
    serde_json::from_slice(&folder::read_note(file)?).ok()
}

/// The local socket that an announcement names, if it is in the folder itself: nothing elsewhere is connected to, or removed.
fn own_socket(announcement: &Announcement, folder: &Path) -> Option<PathBuf> {
    let named = announcement.socket.as_ref()?;
    let is_inside = named.parent() == Some(folder) && named.extension().is_some_and(|extension| extension == "sock");
    is_inside.then(|| named.clone())
}

impl Found {
    /// Connects to the host. An announcement of a host that is gone is taken away.
    ///
    /// # Errors
    /// When the host cannot be reached.
    pub fn connect(&self) -> io::Result<Connection> {
        let connected = self.try_connect();
        if connected.as_ref().err().is_some_and(is_gone) {
            self.take_away();
        }
        connected
    }

    /// Whether a host is known to be gone, whose announcement is taken away then. Only local sockets tell at once.
    fn has_gone(&self) -> bool {
        self.socket.is_some() && self.connect().err().as_ref().is_some_and(is_gone)
    }

    fn try_connect(&self) -> io::Result<Connection> {
        #[cfg(unix)]
        if let Some(socket) = &self.socket {
            return match folder::is_own_socket(socket) {
                true => Connection::to_socket(socket),
                // One that was there and is gone, or something else in its place.
                false => Err(io::ErrorKind::NotFound.into()),
            };
        }
        match self.announcement.address {
            Some(address) => Connection::to(address),
            None => Err(io::ErrorKind::NotFound.into()),
        }
    }

    /// Takes away what a host left that is gone.
    fn take_away(&self) {
        // Another one may have done so already.
        let _ = fs::remove_file(&self.file);
        #[cfg(unix)]
        if let Some(socket) = self.socket.as_ref().filter(|socket| folder::is_own_socket(socket)) {
            let _ = fs::remove_file(socket);
        }
    }
}

/// Whether nobody is there to connect to.
fn is_gone(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::ConnectionRefused | io::ErrorKind::NotFound)
}

/// A host's own announcement; taken away when it is dropped.
pub(crate) struct Note {
    file: PathBuf,
    socket: Option<PathBuf>,
}

impl Note {
    /// The path of a host's note, without its extension.
    pub(crate) fn path(name: &str) -> io::Result<PathBuf> {
        let safe: String =
            name.chars().map(|c| if c.is_alphanumeric() || c == '-' { c } else { '_' }).take(40).collect();
        let unique = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().subsec_nanos();
        Ok(folder()?.join(format!("{safe}.{}.{unique}", std::process::id())))
    }

    /// Leaves it.
    pub(crate) fn leave(path: &Path, announcement: &Announcement) -> io::Result<Self> {
        let (file, being_written) = (beside(path, "json"), beside(path, "new"));
        let text = serde_json::to_vec(announcement)?;
        let written = create_for_owner(&being_written).and_then(|mut file| file.write_all(&text));
        // Nobody finds half of it.
        let left = written.and_then(|()| fs::rename(&being_written, &file));
        left.inspect_err(|_| {
            // What could not be written whole is of no use.
            let _ = fs::remove_file(&being_written);
        })?;
        Ok(Self { file, socket: announcement.socket.clone() })
    }
}

impl Drop for Note {
    fn drop(&mut self) {
        for path in [Some(&self.file), self.socket.as_ref()].into_iter().flatten() {
            // A listing may have taken it away first.
            let _ = fs::remove_file(path);
        }
    }
}

/// A path with one more extension.
pub(crate) fn beside(path: &Path, extension: &str) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(".");
    name.push(extension);
    name.into()
}

#[cfg(unix)]
fn create_for_owner(path: &Path) -> io::Result<fs::File> {
    use std::os::unix::fs::OpenOptionsExt as _;
    fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)
}

#[cfg(not(unix))]
fn create_for_owner(path: &Path) -> io::Result<fs::File> {
    fs::OpenOptions::new().write(true).create_new(true).open(path)
}

/// A local socket that only its owner can connect to.
#[cfg(unix)]
pub(crate) fn listen_locally(path: &Path) -> io::Result<std::os::unix::net::UnixListener> {
    use std::os::unix::fs::PermissionsExt as _;
    let listener = std::os::unix::net::UnixListener::bind(path)?;
    // The folder lets nobody else in; this is for what copies it elsewhere.
    fs::set_permissions(path, fs::Permissions::from_mode(0o600))?;
    Ok(listener)
}

/// A new token: 32 random bytes, in hexadecimal.
pub(crate) fn new_token() -> io::Result<String> {
    let mut bytes = [0_u8; 32];
    getrandom::fill(&mut bytes).map_err(|error| io::Error::other(error.to_string()))?;
    Ok(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

/// Whether a token is the right one, in a time that tells nothing of it but its length.
pub(crate) fn is_token(given: &str, right: &str) -> bool {
    use subtle::ConstantTimeEq as _;
    given.as_bytes().ct_eq(right.as_bytes()).into()
}
