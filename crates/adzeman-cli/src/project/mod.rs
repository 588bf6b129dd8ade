//! The project file, `adzeman.toml`: breakpoints that are set in every session, and what steps pass over.

pub(crate) mod maps;
mod paths;

use std::fs;
use std::path::{Path, PathBuf};

use toml_edit::{Array, DocumentMut, Item, Value};

pub(crate) use paths::{PathMaps, Stale};

use paths::PathMap;

use crate::error::CliError;

/// Its name, in the current directory or one above.
pub(crate) const FILE_NAME: &str = "adzeman.toml";

/// All that it can say.
const KEYS: [&str; 6] = ["breaks", "watches", "library", "own", "paths", "maps"];

/// The project file as it was read. Whatever else is in it stays as it is.
#[derive(Debug)]
pub(crate) struct Project {
    path: PathBuf,
    document: DocumentMut,
}

impl Project {
    /// Reads the file given, or the nearest one from the current directory up. One that is to be written first begins
    /// empty, in the current directory.
    pub(crate) fn find(given: Option<&Path>) -> Result<Self, CliError> {
        let path = match given {
            Some(path) => path.to_owned(),
            None => nearest().unwrap_or_else(|| PathBuf::from(FILE_NAME)),
        };
        let text = match fs::read_to_string(&path) {
            Ok(text) => text,
            Err(why) if why.kind() == std::io::ErrorKind::NotFound && given.is_none() => String::new(),
            Err(why) => return Err(CliError::Unreadable { file: path.display().to_string(), why }),
        };
        let document = text
            .parse::<DocumentMut>()
            .map_err(|error| CliError::BadProject { file: path.display().to_string(), why: error.to_string() })?;
        let project = Self { path, document };
        project.check_keys()?;
        project.list("breaks")?;
        project.list("watches")?;
        project.list("own")?;
        project.read_paths()?;
        project.read_maps()?;
        project.list("library")?;
        Ok(project)
    }

    /// Refuses what is no key of the file: what is written wrong would be passed over in silence.
    fn check_keys(&self) -> Result<(), CliError> {
        let unknown = self.document.iter().map(|(key, _)| key).find(|key| !KEYS.contains(key));
        let tables = self.document.get("paths").and_then(Item::as_array_of_tables);
        let inside = tables.into_iter().flatten().flat_map(|table| table.iter().map(|(key, _)| key));
        let unknown_inside = inside.into_iter().find(|key| !["host", "local"].contains(key));
        let (key, place, known) = match (unknown, unknown_inside) {
            (Some(key), _) => (key, "", KEYS.join(", ")),
            (None, Some(key)) => (key, " in [[paths]]", "host, local".to_owned()),
            (None, None) => return Ok(()),
        };
        let why = format!("it has a key '{key}'{place}, which means nothing; the keys are {known}");
        Err(CliError::BadProject { file: self.shown(), why })
    }

    /// As if there were no file; what is kept goes into one in the current directory.
    pub(crate) fn none() -> Self {
        Self { path: PathBuf::from(FILE_NAME), document: DocumentMut::new() }
    }

    /// The file's name, for people.
    pub(crate) fn shown(&self) -> String {
        self.path.display().to_string()
    }

    /// Breakpoints, as typed behind `break`.
    pub(crate) fn breaks(&self) -> Vec<String> {
        self.list("breaks").unwrap_or_default()
    }

    /// Watches, as typed behind `watch`.
    pub(crate) fn watches(&self) -> Vec<String> {
        self.list("watches").unwrap_or_default()
    }

    /// Sources and folders that steps pass over.
    pub(crate) fn library(&self) -> Vec<String> {
        self.list("library").unwrap_or_default()
    }

    /// Sources and folders that are the project's own; all others are passed over by steps then.
    pub(crate) fn own(&self) -> Vec<String> {
        self.list("own").unwrap_or_default()
    }

    /// Where the host's sources are here.
    pub(crate) fn paths(&self) -> PathMaps {
        let folder = self.path.parent().map(Path::to_owned).unwrap_or_default();
        PathMaps { maps: self.read_paths().unwrap_or_default(), folder }
    }

    fn read_paths(&self) -> Result<Vec<PathMap>, CliError> {
        let wrong = || CliError::BadProject {
            file: self.shown(),
            why:
                "each of [[paths]] must have the texts 'host' and 'local', such as host = \"/srv/canal/\", local = \"\""
                    .to_owned(),
        };
        let Some(item) = self.document.get("paths") else { return Ok(Vec::new()) };
        let tables = item.as_array_of_tables().ok_or_else(wrong)?;
        let text = |table: &toml_edit::Table, key: &str| table.get(key).and_then(Item::as_str).map(str::to_owned);
        let read =
            |table: &toml_edit::Table| Some(PathMap { host: text(table, "host")?, local: text(table, "local")? });
        tables.iter().map(read).collect::<Option<_>>().ok_or_else(wrong)
    }

    /// Source maps of scripts that do not name their own: the end of a script's path, and the file.
    pub(crate) fn maps(&self) -> Vec<(String, PathBuf)> {
        self.read_maps().unwrap_or_default()
    }

    fn read_maps(&self) -> Result<Vec<(String, PathBuf)>, CliError> {
        let wrong = || CliError::BadProject {
            file: self.shown(),
            why: "[maps] must name a file for each script, such as \"keeper.lua\" = \"build/keeper.lua.map\""
                .to_owned(),
        };
        let Some(item) = self.document.get("maps") else { return Ok(Vec::new()) };
        let folder = self.path.parent().map(Path::to_owned).unwrap_or_default();
        let table = item.as_table_like().ok_or_else(wrong)?;
        let read = |(script, file): (&str, &Item)| Some((script.to_owned(), folder.join(file.as_str()?)));
        table.iter().map(read).collect::<Option<_>>().ok_or_else(wrong)
    }

    fn list(&self, key: &str) -> Result<Vec<String>, CliError> {
        let wrong = || CliError::BadProject {
            file: self.shown(),
            why: format!("'{key}' must be a list of texts, such as {key} = [\"...\"]"),
        };
        match self.document.get(key) {
            None => Ok(Vec::new()),
            Some(item) => {
                let texts = item.as_array().ok_or_else(wrong)?.iter();
                texts.map(|value| value.as_str().map(str::to_owned)).collect::<Option<_>>().ok_or_else(wrong)
            }
        }
    }

    /// Replaces the breakpoints and writes the file.
    pub(crate) fn set_breaks(&mut self, breaks: &[String]) -> Result<(), CliError> {
        self.set_list("breaks", breaks)
    }

    /// Replaces the watches and writes the file.
    pub(crate) fn set_watches(&mut self, watches: &[String]) -> Result<(), CliError> {
        self.set_list("watches", watches)
    }

    fn set_list(&mut self, key: &str, texts: &[String]) -> Result<(), CliError> {
        let mut list = Array::new();
        for text in texts {
            let mut value = Value::from(text.as_str());
            value.decor_mut().set_prefix("\n  ");
            list.push_formatted(value);
        }
        list.set_trailing(if texts.is_empty() { "" } else { "\n" });
        list.set_trailing_comma(!texts.is_empty());
        self.document[key] = Item::Value(Value::Array(list));
        let unwritable = |why| CliError::Unwritable { file: self.shown(), why };
        // Written beside it first: a full disk must not cost the file that is there.
        let beside = self.path.with_extension("toml.new");
        let written = fs::write(&beside, self.document.to_string()).and_then(|()| fs::rename(&beside, &self.path));
        written.map_err(|why| {
            // Half of it is of no use to anyone.
            let _ = fs::remove_file(&beside);
            unwritable(why)
        })
    }
}

/// The nearest project file from the current directory up.
fn nearest() -> Option<PathBuf> {
    let here = std::env::current_dir().ok()?;
    here.ancestors().map(|folder| folder.join(FILE_NAME)).find(|path| path.is_file())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn breakpoints_are_kept_and_the_rest_of_the_file_stays() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(FILE_NAME);
        fs::write(&path, "# ours\nlibrary = [\"lib/\"] # theirs\n").unwrap();
        let mut project = Project::find(Some(&path)).unwrap();
        assert_eq!(project.library(), ["lib/"]);
        project.set_breaks(&["at toll.lua:42 when name == \"x\"".to_owned(), "in fare".to_owned()]).unwrap();
        let again = Project::find(Some(&path)).unwrap();
        assert_eq!(again.breaks(), ["at toll.lua:42 when name == \"x\"", "in fare"]);
        let text = fs::read_to_string(&path).unwrap();
        assert!(text.starts_with("# ours\nlibrary = [\"lib/\"] # theirs\n"), "{text}");
    }

    #[test]
    fn a_file_that_cannot_be_read_says_why() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(FILE_NAME);
        assert!(matches!(Project::find(Some(&path)), Err(CliError::Unreadable { .. })));
        fs::write(&path, "breaks = \"in fare\"").unwrap();
        let why = Project::find(Some(&path)).unwrap_err().to_string();
        assert!(why.contains("'breaks' must be a list of texts"), "{why}");
        for (text, key) in [
            ("brakes = []", "'brakes'"),
            ("[[paths]]\nhost = \"a\"\nlocal = \"\"\nremote = 1", "'remote' in [[paths]]"),
        ] {
            fs::write(&path, text).unwrap();
            let why = Project::find(Some(&path)).unwrap_err().to_string();
            assert!(why.contains(key) && why.contains("which means nothing; the keys are"), "{why}");
        }
        fs::write(&path, "breaks = [").unwrap();
        assert!(Project::find(Some(&path)).unwrap_err().to_string().contains("line 1"));
    }
}
