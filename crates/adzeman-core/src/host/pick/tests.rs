use std::collections::BTreeMap;

use super::*;
use crate::path::Notation;

#[derive(Serialize)]
struct Lock {
    level: f64,
    gate: Gate,
    boat: Option<u32>,
    crew: Vec<(String, u8)>,
    by_name: BTreeMap<u8, char>,
    wrapped: Wrapped,
}

#[derive(Serialize)]
#[serde(rename_all = "lowercase")]
enum Gate {
    Shut,
    Ajar(Vec<u8>),
    Stuck(u8, char),
    Moving { by: f64, since: Vec<u8> },
}

#[derive(Serialize)]
struct Wrapped([bool; 2]);

fn lock(gate: Gate) -> Lock {
    Lock {
        level: 1.5,
        gate,
        boat: None,
        crew: vec![("Ada".to_owned(), 3), ("Ben".to_owned(), 4)],
        by_name: [(7, 'x')].into(),
        wrapped: Wrapped([true, false]),
    }
}

#[test]
fn every_part_is_what_the_whole_says() {
    let gates = [Gate::Shut, Gate::Ajar(vec![1, 2]), Gate::Stuck(3, 'x'), Gate::Moving { by: 0.5, since: vec![7, 8] }];
    for gate in gates {
        let state = lock(gate);
        let whole = serde_json::to_value(&state).unwrap();
        assert_eq!(to_data(&state).unwrap(), whole);
        let paths = [
            "",
            "level",
            "gate",
            "gate.ajar",
            "gate.ajar[1]",
            "gate.stuck",
            "gate.stuck[1]",
            "gate.moving.since[0]",
            "gate.moving.x",
            "boat",
            "boat.x",
            "crew",
            "crew[1]",
            "crew[1][0]",
            "crew[9]",
            "by_name.7",
            "by_name.8",
            "wrapped[0]",
            "level.x",
            "nothing",
        ];
        for text in paths {
            let path = Path::parse(text, Notation::OF_DATA).unwrap();
            let expected = path.walk(&whole).ok().cloned();
            assert_eq!(pick(&state, &path, Extent::Whole).unwrap(), expected, "{text}");
            for aspect in [Aspect::Itself, Aspect::Inside(crate::value::Page { start: 1, count: 1 })] {
                let shown = expected.clone().map(|part| Outline::of_data(&part.into(), aspect));
                assert_eq!(outline(&state, &path, aspect).unwrap(), shown, "{text}");
            }
            let emptied = |value: Json| match value {
                Json::Array(_) => Json::Array(Vec::new()),
                Json::Object(_) => serde_json::json!({}),
                other => other,
            };
            let bare = expected.clone().map(emptied);
            assert_eq!(pick(&state, &path, Extent::Bare).unwrap(), bare, "{text}");
            let names = expected.map(|value| match value {
                Json::Array(items) => items.into_iter().map(|_| Json::Null).collect(),
                Json::Object(fields) => fields.into_iter().map(|(name, _)| (name, Json::Null)).collect(),
                other => other,
            });
            assert_eq!(pick(&state, &path, Extent::Names).unwrap(), names, "{text}");
        }
    }
}

/// Counts how often it is looked at.
struct Counted<'a>(&'a std::cell::Cell<usize>);

impl Serialize for Counted<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.0.set(self.0.get() + 1);
        serializer.serialize_u8(7)
    }
}

#[test]
fn only_the_path_is_visited() {
    let looks = std::cell::Cell::new(0);
    let rows: Vec<_> = (0..1000).map(|_| BTreeMap::from([("x", Counted(&looks)), ("y", Counted(&looks))])).collect();
    let state = BTreeMap::from([("before", vec![]), ("rows", rows)]);
    let looked = |path: &str, extent| {
        let path = Path::parse(path, Notation::OF_DATA).unwrap();
        let part = pick(&state, &path, extent).unwrap();
        (part.is_some(), looks.replace(0))
    };
    assert_eq!(looked("rows[999].x", Extent::Whole), (true, 1));
    assert_eq!(looked("rows[5]", Extent::Whole), (true, 2));
    assert_eq!(looked("rows", Extent::Bare), (true, 0));
    assert_eq!(looked("", Extent::Bare), (true, 0));
    assert_eq!(looked("rows", Extent::Names), (true, 0));
    assert_eq!(looked("rows[5].z", Extent::Bare), (false, 0));
    assert_eq!(looked("rows", Extent::Whole), (true, 2000));
}

/// Inside itself as often as is wanted.
#[derive(Serialize)]
#[serde(untagged)]
enum Nested {
    List(Vec<Nested>),
    Wrapped(Box<Wrap>),
    End(u8),
}

#[derive(Serialize)]
struct Wrap(Nested);

#[test]
fn what_nests_too_deep_takes_no_stack() {
    let nested = |levels: usize, around: fn(Nested) -> Nested| (0..levels).fold(Nested::End(7), |held, _| around(held));
    let shapes: [fn(Nested) -> Nested; 2] =
        [|held| Nested::List(vec![held]), |held| Nested::Wrapped(Box::new(Wrap(held)))];
    for around in shapes {
        let state = nested(50_000, around);
        let shown = pick(&state, &Path::default(), Extent::Whole).unwrap().unwrap().to_string();
        assert!(shown.contains("nested too deep"), "{shown}");
        for extent in [Extent::Bare, Extent::Names] {
            assert!(pick(&state, &Path::default(), extent).unwrap().is_some());
        }
        assert!(to_data(&state).unwrap_err().to_string().contains("deeper than 48 levels"));
        // The data itself is the host's, and dropped by it.
        std::mem::forget(state);
    }
    let state = nested(100, shapes[0]);
    let path = (0..100).fold(Path::default(), |path, _| path.join(Segment::Index(0)));
    assert_eq!(pick(&state, &path, Extent::Whole).unwrap(), Some(7.into()), "a path leads to what is deeper");
}
