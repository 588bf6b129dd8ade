//! Files that are written for the person: its owner alone can read them.

use std::io::{self, BufWriter, Write};
use std::path::Path;

use crate::error::CliError;

/// Writes a file that its owner alone can read; what was there is replaced.
pub(crate) fn write_own(file: &Path, write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> io::Result<()> {
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create(true).truncate(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    let opened = options.open(file)?;
    // One that was there may have been for others to read.
    #[cfg(unix)]
    opened.set_permissions(std::os::unix::fs::PermissionsExt::from_mode(0o600))?;
    let mut out = BufWriter::new(opened);
    write(&mut out)?;
    out.flush()
}

/// Writes a text so.
///
/// # Errors
/// Where the file cannot be written.
pub(crate) fn write_text(file: &str, text: &str) -> Result<(), CliError> {
    write_own(Path::new(file), |out| out.write_all(text.as_bytes()))
        .map_err(|why| CliError::Unwritable { file: file.to_owned(), why })
}
