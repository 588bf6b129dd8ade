//! Tells the circles of the crates whose folders it is given; ends with 1 if there are any.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::ExitCode;

use rooms::{Arrow, House};

fn main() -> ExitCode {
    let mut is_clean = true;
    for folder in std::env::args().skip(1) {
        let house = match House::read(&Path::new(&folder).join("src")) {
            Ok(house) => house,
            Err(error) => {
                eprintln!("{folder}: {error}");
                return ExitCode::FAILURE;
            }
        };
        println!("{folder}: {}", house.from_the_ground_up().join(", "));
        for circle in house.circles() {
            is_clean = false;
            eprintln!("{folder}: these rooms import each other in a circle: {}", circle.rooms.join(", "));
            for ((from, to), names) in by_files(&circle.arrows) {
                eprintln!("  {} -> {}: {}", from.display(), to.display(), names.join(", "));
            }
        }
        for stray in house.strays() {
            is_clean = false;
            eprintln!("{folder}: methods of a type outside its room: {stray}");
        }
    }
    if is_clean { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}

/// The names that each file takes from each other one, without the paths to them.
fn by_files(arrows: &[Arrow]) -> BTreeMap<(&Path, &Path), Vec<&str>> {
    let mut found: BTreeMap<_, Vec<&str>> = BTreeMap::new();
    for arrow in arrows {
        let name = arrow.name.trim_start_matches("crate::").rsplit("::").next().unwrap_or_default();
        let names = found.entry((arrow.from.as_path(), arrow.to.as_path())).or_default();
        if !names.contains(&name) {
            names.push(name);
        }
    }
    found
}
