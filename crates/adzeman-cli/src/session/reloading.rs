//! Correcting scripts where they stand.

use std::path::Path;
use std::process::Command as Process;

use adzeman_dap::extra::{self, ReloadArguments, ReloadBody};
use adzeman_dap::requests::LoadedSourcesBody;
use adzeman_dap::types::Source;
use serde_json::json;

use super::Session;
use crate::command::Reload;
use crate::error::CliError;
use crate::report::Report;

impl Session<'_> {
    /// Gives the functions of a script the bodies of the file as it is now, or of the text that was loaded.
    pub(super) fn reload(&mut self, wanted: &Reload) -> Result<Report, CliError> {
        let source = self.source_meant(&wanted.path)?;
        let path = source.path.clone().unwrap_or_default();
        let text = if wanted.original { None } else { Some(self.text_here(&source)?) };
        let run = wanted.run.then_some(true);
        let partly = wanted.partly.then_some(true);
        self.reload_as(ReloadArguments { path, text, partly, run, check: None })
    }

    /// Has each file of a script that is saved from now on reloaded, or no longer.
    pub(super) fn reload_on_save(&mut self, follows: bool) -> Result<Report, CliError> {
        if !follows {
            self.client.pass_over_saves();
            return Ok(Report::FollowsSaves { files: None });
        }
        let body: LoadedSourcesBody = self.client.request("loadedSources", &json!({}))?;
        let files = self.client.follow_saves(self.files.paths.clone(), &body.sources)?;
        Ok(Report::FollowsSaves { files: Some(files) })
    }

    fn text_here(&self, source: &Source) -> Result<String, CliError> {
        self.files.paths.text(source).ok_or_else(|| {
            let path = source.path.as_deref().unwrap_or_default();
            let local = self.files.paths.to_local(path);
            let why =
                format!("there is no file {local} here; 'paths' in adzeman.toml says where those of the host lie");
            CliError::Refused(format!("{why}, and 'edit {path}' changes the host's own text"))
        })
    }

    fn reload_as(&mut self, arguments: ReloadArguments) -> Result<Report, CliError> {
        let body: ReloadBody = self.client.request(extra::RELOAD, &arguments)?;
        if body.done && self.at.stopped.is_some() {
            self.look_from_the_script()?;
        }
        let path = self.files.paths.to_local(&body.path);
        Ok(Report::Reloaded { reload: ReloadBody { path, ..body } })
    }

    /// The source that a path means, as the host or this folder calls it.
    fn source_meant(&mut self, path: &str) -> Result<Source, CliError> {
        let body: LoadedSourcesBody = self.client.request("loadedSources", &json!({}))?;
        let wanted = [path.replace('\\', "/"), self.files.paths.to_host(path).replace('\\', "/")];
        let is_meant = |held: &Source, wanted: &str| {
            let held = held.path.as_deref().unwrap_or_default().replace('\\', "/");
            held == wanted || held.strip_suffix(wanted).is_some_and(|before| before.ends_with('/'))
        };
        let meant = |source: &&Source| wanted.iter().any(|wanted| is_meant(source, wanted));
        let found: Vec<_> = body.sources.iter().filter(meant).collect();
        match found[..] {
            [source] => Ok(source.clone()),
            [] => {
                Err(CliError::Refused(format!("no script of the host is called '{path}'; 'look sources' lists them")))
            }
            _ => {
                let names: Vec<_> = found.iter().filter_map(|source| source.path.clone()).collect();
                Err(CliError::Refused(format!("more than one is meant: {}; give more of the path", names.join(", "))))
            }
        }
    }

    /// Opens the person's editor at a line, on the file here or on the host's own text, and reloads what comes of it.
    pub(super) fn edit(&mut self, place: Option<(String, Option<i64>)>) -> Result<Report, CliError> {
        let (path, line) = match place {
            Some(place) => place,
            None => self.place_looked_at()?,
        };
        let source = self.source_meant(&path)?;
        let host_path = source.path.clone().unwrap_or_default();
        // The host's own text is edited in a folder that is nobody else's.
        let kept = match self.files.paths.text(&source) {
            Some(_) => None,
            None => Some(own_folder().map_err(|why| unwritable(&"a folder for its text", why))?),
        };
        let file = match &kept {
            None => self.files.paths.file_of(&host_path),
            Some(folder) => {
                let file = folder.path().join(host_path.rsplit(['/', '\\']).next().unwrap_or("script"));
                let text = self.text_of(source)?;
                std::fs::write(&file, text).map_err(|why| unwritable(&file.display(), why))?;
                file
            }
        };
        let before = read(&file)?;
        let outcome = self.edit_and_reload(host_path, &file, line.unwrap_or(1), &before);
        let is_taken = matches!(&outcome, Ok(Report::Reloaded { reload }) if reload.done);
        let is_typed = !is_taken && read(&file).is_ok_and(|after| after != before);
        if let Some(folder) = kept.filter(|_| is_typed) {
            // What was typed is not lost with it.
            let _ = folder.keep();
            self.printer.remark(&format!("your text is kept in {}", file.display()));
        }
        outcome
    }

    fn edit_and_reload(&mut self, path: String, file: &Path, line: i64, before: &str) -> Result<Report, CliError> {
        run_editor(file, line)?;
        let after = read(file)?;
        if before == after && !self.files.stale.contains_key(&path) {
            return Err(CliError::Refused("the text was not changed".to_owned()));
        }
        self.reload_as(ReloadArguments { path, text: Some(after), ..ReloadArguments::default() })
    }

    /// The script and line that is looked at.
    fn place_looked_at(&self) -> Result<(String, Option<i64>), CliError> {
        self.require_stop()?;
        let frame = self.at.frames.get(self.at.frame);
        let place = frame.and_then(|frame| Some((frame.source.as_ref()?.path.clone()?, Some(frame.line))));
        place.ok_or_else(|| CliError::Refused("this frame has no source; write 'edit FILE:LINE'".to_owned()))
    }
}

fn unwritable(what: &dyn std::fmt::Display, why: std::io::Error) -> CliError {
    CliError::Unwritable { file: what.to_string(), why }
}

fn read(file: &Path) -> Result<String, CliError> {
    std::fs::read_to_string(file).map_err(|why| unwritable(&file.display(), why))
}

/// A new folder that only the person themselves can look into.
fn own_folder() -> std::io::Result<tempfile::TempDir> {
    let mut builder = tempfile::Builder::new();
    builder.prefix("adzeman-");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        builder.permissions(std::fs::Permissions::from_mode(0o700));
    }
    builder.tempdir()
}

/// Runs the editor that the person has chosen, and waits for it.
fn run_editor(file: &Path, line: i64) -> Result<(), CliError> {
    let chosen = ["VISUAL", "EDITOR"].iter().find_map(|name| std::env::var(name).ok().filter(|text| !text.is_empty()));
    let chosen = chosen.ok_or_else(|| CliError::Refused("which editor? Set EDITOR to the command".to_owned()))?;
    let mut words = chosen.split_whitespace();
    let program = words.next().unwrap_or_default();
    let status = Process::new(program).args(words).arg(format!("+{line}")).arg(file).status();
    match status {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(CliError::Refused(format!("'{chosen}' ended with {status}; nothing was reloaded"))),
        Err(why) => Err(CliError::NotStarted { command: chosen, why: why.to_string() }),
    }
}
