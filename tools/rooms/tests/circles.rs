//! Circles planted in a crate of a few files are found, however they are written; what is none is not.

use std::fs;
use std::path::Path;

use rooms::House;

/// The circles of a crate of these files, and the methods that stray.
fn found(files: &[(&str, &str)]) -> Vec<String> {
    let folder = tempfile::tempdir().unwrap();
    for (name, text) in files {
        let file = folder.path().join(name);
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(file, text).unwrap();
    }
    let house = House::read(folder.path()).unwrap();
    let circles = house.circles().into_iter().map(|circle| circle.rooms.join(" "));
    circles.chain(house.strays().into_iter().map(|stray| format!("stray {}", stray.name))).collect()
}

const ROOT: &str = "mod value; mod path; pub use value::Value;";

#[test]
fn arrows_of_one_way_are_no_circle() {
    let path = "use crate::value::Value; pub struct Path(Value); impl Path { pub fn new() {} }";
    assert_eq!(found(&[("lib.rs", ROOT), ("value.rs", "pub struct Value;"), ("path.rs", path)]), [""; 0]);
}

#[test]
fn a_circle_is_found_however_it_is_written() {
    for back in [
        "use crate::path::Path; pub struct Value(Path);",
        "use super::path::Path as Way; pub struct Value(Way);",
        "use super::path; pub struct Value(path::Path);",
        "use crate::*; pub struct Value(path::Path);",
        "pub struct Value(crate::path::Path);",
        "pub struct Value; impl Value { fn f() { let _ = vec![super::path::Path::new()]; } }",
        "pub struct Value; fn f() { use crate::path::Path; Path::new(); }",
        "pub struct Value; mod inner { use super::super::path::Path; }",
        // By what the root hands on.
        "use crate::Path; pub struct Value(Path);",
        "use crate::{path::{self}}; pub struct Value(path::Path);",
    ] {
        let root = format!("{ROOT} pub use path::Path;");
        let path = "use crate::Value; pub struct Path(Value); impl Path { pub fn new() {} }";
        assert_eq!(found(&[("lib.rs", &root), ("value.rs", back), ("path.rs", path)]), ["path value"], "{back}");
    }
}

#[test]
fn a_circle_through_folders_and_three_rooms_is_found() {
    let files = [
        ("main.rs", "mod a; mod b; mod c;"),
        ("a/mod.rs", "mod deep; pub use deep::A;"),
        ("a/deep.rs", "use crate::b::inner::B; pub struct A(B);"),
        ("b/mod.rs", "pub mod inner;"),
        ("b/inner.rs", "use crate::c::C; pub struct B(C);"),
        ("c.rs", "pub struct C; fn f() { crate::a::A; }"),
    ];
    assert_eq!(found(&files), ["a b c"]);
    assert_eq!(found(&files[..5].iter().copied().chain([("c.rs", "pub struct C;")]).collect::<Vec<_>>()), [""; 0]);
}

#[test]
fn what_is_inside_a_room_or_a_test_is_no_circle() {
    let files = [
        ("lib.rs", "mod a; mod b;"),
        ("a/mod.rs", "mod one; mod two;"),
        ("a/one.rs", "use super::two::Two; pub struct One(Two);"),
        ("a/two.rs", "use crate::b::B; pub struct Two(B, Option<Box<super::one::One>>);"),
        ("b.rs", "pub struct B; #[cfg(test)] mod tests { use crate::a::one::One; }"),
    ];
    assert_eq!(found(&files), [""; 0]);
}

#[test]
fn methods_outside_the_room_of_their_type_are_found() {
    let path = "use crate::value::Value; impl Value { fn at() {} } impl Clone for Value {}";
    assert_eq!(found(&[("lib.rs", ROOT), ("value.rs", "pub struct Value;"), ("path.rs", path)]), ["stray Value"]);
}

#[test]
fn every_crate_of_this_house_can_be_read() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../crates");
    for entry in fs::read_dir(crates).unwrap() {
        let sources = entry.unwrap().path().join("src");
        let rooms = House::read(&sources).unwrap().from_the_ground_up().len();
        assert!(rooms > 1, "{}: {rooms} rooms", sources.display());
    }
}
