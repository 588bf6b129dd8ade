//! Where the host's sources are here: path maps, and whether a file here is what the host runs.

use std::path::{Path, PathBuf};

use adzeman::core::source::TextDigest;
use adzeman_dap::types::Source;

/// A folder of the host, and the same folder here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct PathMap {
    pub(crate) host: String,
    pub(crate) local: String,
}

/// All maps of a project, and the folder that local paths are in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct PathMaps {
    pub(crate) maps: Vec<PathMap>,
    pub(crate) folder: PathBuf,
}

/// A file here whose text is not what the host runs.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub(crate) struct Stale {
    pub(crate) path: String,
    pub(crate) local: String,
    pub(crate) host_digest: String,
    pub(crate) local_digest: String,
}

/// What is behind a prefix; both separators are the same, and a prefix ends where a folder does.
fn behind<'p>(path: &'p str, prefix: &str) -> Option<&'p str> {
    let same = |a: u8, b: u8| a == b || matches!((a, b), (b'/', b'\\') | (b'\\', b'/'));
    let is_prefix = path.len() >= prefix.len() && path.bytes().zip(prefix.bytes()).all(|(a, b)| same(a, b));
    let rest = is_prefix.then(|| path.get(prefix.len()..)).flatten()?;
    let ends_folder =
        prefix.is_empty() || prefix.ends_with(['/', '\\']) || rest.is_empty() || rest.starts_with(['/', '\\']);
    ends_folder.then_some(rest)
}

/// A path with its prefix exchanged by the longest that fits.
fn exchanged<'m>(path: &str, pairs: impl Iterator<Item = (&'m str, &'m str)>) -> Option<String> {
    let fitting = pairs.filter_map(|(from, to)| Some((from.len(), to, behind(path, from)?)));
    let (_, to, rest) = fitting.max_by_key(|(length, ..)| *length)?;
    // The separator of the side that it comes to.
    let separator = if to.contains('\\') && !to.contains('/') { '\\' } else { '/' };
    Some(to.to_owned() + &rest.replace(['/', '\\'], &separator.to_string()))
}

impl PathMaps {
    /// What a path of the host is called here.
    pub(crate) fn to_local(&self, path: &str) -> String {
        let pairs = self.maps.iter().map(|map| (map.host.as_str(), map.local.as_str()));
        exchanged(path, pairs).unwrap_or_else(|| path.to_owned())
    }

    /// What a path here is called in the host.
    pub(crate) fn to_host(&self, path: &str) -> String {
        let pairs = self.maps.iter().map(|map| (map.local.as_str(), map.host.as_str()));
        exchanged(path, pairs).unwrap_or_else(|| path.to_owned())
    }

    /// The text of the file here that stands for a source, if there is one.
    pub(crate) fn text(&self, source: &Source) -> Option<String> {
        std::fs::read_to_string(self.file_of(source.path.as_ref()?)).ok()
    }

    /// The file here that stands for a source, whether there is one or not.
    pub(crate) fn file_of(&self, path: &str) -> PathBuf {
        let local = self.to_local(path);
        if Path::new(&local).is_absolute() { PathBuf::from(&local) } else { self.folder.join(&local) }
    }

    /// Whether the file here that stands for a source has another text; nothing when there is no such file.
    pub(crate) fn stale(&self, source: &Source) -> Option<Stale> {
        let path = source.path.clone()?;
        let host_digest = source.checksums.as_ref()?.first()?.checksum.clone();
        let local = self.to_local(&path);
        let local_digest = TextDigest::of(&self.text(source)?).as_str().to_owned();
        (local_digest != host_digest).then_some(Stale { path, local, host_digest, local_digest })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn maps(pairs: &[(&str, &str)]) -> PathMaps {
        let map = |(host, local): &(&str, &str)| PathMap { host: (*host).to_owned(), local: (*local).to_owned() };
        PathMaps { maps: pairs.iter().map(map).collect(), folder: PathBuf::new() }
    }

    #[test]
    fn the_longest_prefix_wins_and_separators_are_alike() {
        let maps = maps(&[("/srv/canal", "host"), ("/srv/canal/scripts", "scripts"), ("C:\\game\\lua", "lua")]);
        for (host, local) in [
            ("/srv/canal/scripts/lock.lua", "scripts/lock.lua"),
            ("/srv/canal/main.lua", "host/main.lua"),
            ("/srv/canalside/x.lua", "/srv/canalside/x.lua"),
            ("C:\\game\\lua\\a\\b.lua", "lua/a/b.lua"),
            ("C:/game/lua/c.lua", "lua/c.lua"),
        ] {
            assert_eq!(maps.to_local(host), local);
        }
        assert_eq!(maps.to_host("lua/a/b.lua"), "C:\\game\\lua\\a\\b.lua");
        assert_eq!(maps.to_host("scripts/lock.lua"), "/srv/canal/scripts/lock.lua");
        assert_eq!(maps.to_host("elsewhere.lua"), "elsewhere.lua");
    }

    #[test]
    fn a_file_with_another_text_is_stale() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("lock.lua"), "return 1").unwrap();
        let maps = PathMaps { folder: folder.path().to_owned(), ..maps(&[("/srv/", "")]) };
        let source = |text: &str, path: &str| Source {
            path: Some(path.to_owned()),
            checksums: Some(vec![adzeman_dap::types::Checksum {
                algorithm: "SHA256".to_owned(),
                checksum: TextDigest::of(text).as_str().to_owned(),
            }]),
            ..Source::default()
        };
        assert_eq!(maps.stale(&source("return 1", "/srv/lock.lua")), None);
        assert_eq!(maps.stale(&source("return 2", "/srv/other.lua")), None, "no file here");
        assert_eq!(maps.stale(&source("return 2", "/srv/lock.lua")).unwrap().local, "lock.lua");
    }
}
