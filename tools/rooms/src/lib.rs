//! Proves that the rooms of a crate do not import each other in a circle.
//!
//! A room is what stands directly under a crate's source folder: a folder with all that is in it, or a single file. The file at
//! the root (`lib.rs`, `main.rs`) is on top of all and only puts them together. Names are followed through `crate`, `super`,
//! `self`, aliases and re-exports to the file that defines them; tests inside files are left out, since they may look at
//! anything. A type has all its own methods in its room.

mod modules;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::io;
use std::path::{Path, PathBuf};

use modules::{ModulePath, Modules};

/// Aliases that are followed one behind the other.
const MOST_ALIASES: usize = 32;

/// One import from a room to another.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Arrow {
    /// The file that imports.
    pub from: PathBuf,
    /// The file that defines what is imported.
    pub to: PathBuf,
    /// What that is.
    pub name: String,
}

impl fmt::Display for Arrow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} -> {}: {}", self.from.display(), self.to.display(), self.name)
    }
}

/// The rooms of a crate.
#[derive(Debug, Default)]
pub struct House {
    rooms: BTreeSet<String>,
    /// The imports from one room to another.
    arrows: BTreeMap<(String, String), BTreeSet<Arrow>>,
    /// Methods that a type has in a room that is not its own.
    strays: BTreeSet<Arrow>,
}

/// Rooms that import each other, and what ties them.
#[derive(Debug)]
pub struct Circle {
    /// The rooms.
    pub rooms: Vec<String>,
    /// The imports among them.
    pub arrows: Vec<Arrow>,
}

/// The room that a file is in.
fn room(file: &Path) -> String {
    let mut parts = file.components();
    let first = parts.next().map(|part| part.as_os_str().to_string_lossy().into_owned()).unwrap_or_default();
    if parts.next().is_some() { first } else { first.trim_end_matches(".rs").to_owned() }
}

impl House {
    /// Reads the crate whose source folder this is.
    ///
    /// # Errors
    /// When a file cannot be read, or is no Rust.
    pub fn read(source: &Path) -> io::Result<Self> {
        let modules = Modules::read(source)?;
        let mut house = Self::default();
        for (path, module) in &modules.0 {
            let own = room(&module.file);
            house.rooms.insert(own.clone());
            for (used, is_implemented) in
                module.used.iter().map(|used| (used, false)).chain(module.implemented.iter().map(|used| (used, true)))
            {
                let Some(to) = modules.file_of(path, used, MOST_ALIASES) else { continue };
                let other = room(&to);
                if other == own {
                    continue;
                }
                let arrow = Arrow { from: module.file.clone(), to, name: used.join("::") };
                if is_implemented {
                    house.strays.insert(arrow);
                } else {
                    house.arrows.entry((own.clone(), other)).or_default().insert(arrow);
                }
            }
        }
        Ok(house)
    }

    /// The circles, each with what ties it.
    #[must_use]
    pub fn circles(&self) -> Vec<Circle> {
        let reach: BTreeMap<&String, BTreeSet<&String>> =
            self.rooms.iter().map(|room| (room, self.reached_from(room))).collect();
        let mut circles: Vec<Circle> = Vec::new();
        for room in &self.rooms {
            let ring: Vec<String> = reach[room]
                .iter()
                .filter(|other| reach[**other].contains(room))
                .map(|other| (*other).clone())
                .collect();
            if ring.is_empty() || circles.iter().any(|circle| circle.rooms == ring) {
                continue;
            }
            let is_inside = |(from, to): &(String, String)| ring.contains(from) && ring.contains(to);
            let arrows = self.arrows.iter().filter(|(ends, _)| is_inside(ends)).flat_map(|(_, arrows)| arrows.clone());
            circles.push(Circle { arrows: arrows.collect(), rooms: ring });
        }
        circles
    }

    /// Methods that a type has outside its own room.
    #[must_use]
    pub fn strays(&self) -> Vec<&Arrow> {
        self.strays.iter().collect()
    }

    /// The rooms from the ground up: each behind all that it imports, as far as there is no circle.
    #[must_use]
    pub fn from_the_ground_up(&self) -> Vec<&str> {
        let mut rooms: Vec<&String> = self.rooms.iter().collect();
        rooms.sort_by_key(|room| (self.reached_from(room).len(), *room));
        rooms.into_iter().map(String::as_str).collect()
    }

    fn reached_from<'a>(&'a self, room: &'a String) -> BTreeSet<&'a String> {
        let mut reached = BTreeSet::new();
        let mut waiting = vec![room];
        while let Some(next) = waiting.pop() {
            let onwards = self.arrows.keys().filter(|(from, _)| from == next).map(|(_, to)| to);
            waiting.extend(onwards.filter(|to| reached.insert(*to)));
        }
        reached
    }
}

impl Modules {
    /// The file that defines what a path names in a module; `None` for what is of no module of this crate.
    fn file_of(&self, module: &ModulePath, path: &[String], left: usize) -> Option<PathBuf> {
        let (first, rest) = path.split_first()?;
        match first.as_str() {
            "crate" => self.walk(&Vec::new(), rest, left),
            "self" => self.walk(module, rest, left),
            "super" => self.walk(&module[..module.len().checked_sub(1)?].to_vec(), rest, left),
            _ => self.walk(module, path, left),
        }
    }

    /// The same, from inside a module.
    fn walk(&self, module: &ModulePath, path: &[String], left: usize) -> Option<PathBuf> {
        let left = left.checked_sub(1)?;
        let held = self.0.get(module)?;
        let Some((name, rest)) = path.split_first() else { return Some(held.file.clone()) };
        if name == "super" {
            return self.walk(&module[..module.len().checked_sub(1)?].to_vec(), rest, left);
        }
        if held.children.contains(name) {
            let mut below = module.clone();
            below.push(name.clone());
            return self.walk(&below, rest, left);
        }
        if held.items.contains(name) {
            return Some(held.file.clone());
        }
        if let Some(target) = held.aliases.get(name) {
            // One that names itself is of another crate.
            let whole = [target, rest].concat();
            return if target.first() == Some(name) && target.len() == 1 {
                None
            } else {
                self.file_of(module, &whole, left)
            };
        }
        held.globs.iter().find_map(|glob| self.file_of(module, &[glob, path].concat(), left))
    }
}
