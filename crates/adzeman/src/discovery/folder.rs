//! The folder of announcements, and what is believed of it: nothing in it is followed, read or removed that is not of the user's
//! own, and of the kind that it has to be.

use std::fs::{self, File};
use std::io::{self, Read};
use std::path::Path;

/// A note of more bytes is none of ours.
const MOST_NOTE_BYTES: u64 = 16 * 1024;

/// Makes the folder, for its owner only, if it is not there, and checks it.
///
/// # Errors
/// When it cannot be made, is no folder, or belongs to someone else; and when someone else could put another one in its place.
pub(super) fn prepare(folder: &Path) -> io::Result<()> {
    if let Some(parent) = folder.parent() {
        fs::create_dir_all(parent)?;
        check_parent(parent)?;
    }
    make(folder)?;
    check(folder)
}

/// The text of a note; nothing for what is none, or is just being taken away.
pub(super) fn read_note(file: &Path) -> Option<Vec<u8>> {
    let opened = open(file).ok()?;
    let found = opened.metadata().ok()?;
    if !found.is_file() || !is_own(&found) || found.len() > MOST_NOTE_BYTES {
        return None;
    }
    let mut text = Vec::new();
    opened.take(MOST_NOTE_BYTES).read_to_end(&mut text).ok()?;
    Some(text)
}

/// Whether there is a local socket of the user's own.
#[cfg(unix)]
pub(super) fn is_own_socket(path: &Path) -> bool {
    use std::os::unix::fs::FileTypeExt as _;
    fs::symlink_metadata(path).is_ok_and(|found| found.file_type().is_socket() && is_own(&found))
}

fn refused(folder: &Path, why: &str) -> io::Error {
    let shown = folder.display();
    io::Error::new(
        io::ErrorKind::PermissionDenied,
        format!("{shown} {why}; set XDG_RUNTIME_DIR to a folder that only you can write to"),
    )
}

#[cfg(unix)]
mod owned {
    use std::fs::{DirBuilder, Metadata, OpenOptions, Permissions};
    use std::os::unix::fs::{DirBuilderExt as _, MetadataExt as _, OpenOptionsExt as _, PermissionsExt as _};

    use rustix::fs::OFlags;

    use super::{File, Path, fs, io, refused};

    /// Anyone may write, and whoever does may replace what others made.
    const FOR_ALL: u32 = 0o002;
    const STICKY: u32 = 0o1000;

    pub(super) fn is_own(found: &Metadata) -> bool {
        found.uid() == rustix::process::geteuid().as_raw()
    }

    fn flags(flags: OFlags) -> i32 {
        i32::try_from(flags.bits()).unwrap_or(0)
    }

    /// Opens a file to read, without following a link, and without waiting for anyone who would write to it.
    pub(super) fn open(file: &Path) -> io::Result<File> {
        let flags = flags(OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC);
        OpenOptions::new().read(true).custom_flags(flags).open(file)
    }

    pub(super) fn make(folder: &Path) -> io::Result<()> {
        match DirBuilder::new().mode(0o700).create(folder) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => Err(error),
            _ => Ok(()),
        }
    }

    pub(super) fn check(folder: &Path) -> io::Result<()> {
        // The folder itself and no link to one: what is found is what is kept to its owner.
        let flags = flags(OFlags::NOFOLLOW | OFlags::DIRECTORY | OFlags::CLOEXEC);
        let opened = OpenOptions::new().read(true).custom_flags(flags).open(folder);
        let opened = opened.map_err(|why| refused(folder, &format!("is no folder of your own ({why})")))?;
        let found = opened.metadata()?;
        if !is_own(&found) {
            return Err(refused(folder, "belongs to someone else"));
        }
        if found.mode() & 0o077 != 0 {
            opened.set_permissions(Permissions::from_mode(0o700))?;
        }
        Ok(())
    }

    pub(super) fn check_parent(parent: &Path) -> io::Result<()> {
        let found = fs::metadata(parent)?;
        let is_trusted = is_own(&found) || found.uid() == 0;
        let is_for_all = found.mode() & FOR_ALL != 0 && found.mode() & STICKY == 0;
        if !is_trusted || is_for_all {
            return Err(refused(parent, "is a folder in which someone else could exchange yours"));
        }
        Ok(())
    }
}

/// A user's own folders are theirs already.
#[cfg(not(unix))]
mod owned {
    use super::{File, Path, fs, io};

    pub(super) fn is_own(_: &fs::Metadata) -> bool {
        true
    }

    pub(super) fn open(file: &Path) -> io::Result<File> {
        File::open(file)
    }

    pub(super) fn make(folder: &Path) -> io::Result<()> {
        fs::create_dir_all(folder)
    }

    pub(super) fn check(_: &Path) -> io::Result<()> {
        Ok(())
    }

    pub(super) fn check_parent(_: &Path) -> io::Result<()> {
        Ok(())
    }
}

use owned::{check, check_parent, is_own, make, open};
