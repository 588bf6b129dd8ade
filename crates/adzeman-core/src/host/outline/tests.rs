use std::cell::Cell;
use std::collections::{BTreeMap, HashMap};

use proptest::prelude::*;
use serde::Serializer;
use serde_json::{Value as Json, json};

use super::*;
use crate::host::{describe, list, preview};
use crate::path::{Notation, Path, Root, TreePath};

/// Data of every kind, as serde has it.
#[derive(Debug, Clone, Serialize)]
enum Any {
    Unit,
    One(Box<Any>),
    Two(bool, Box<Any>),
    Named {
        level: f64,
        inside: Box<Any>,
    },
    #[serde(untagged)]
    Bare(Bare),
}

#[derive(Debug, Clone, Serialize)]
#[serde(untagged)]
enum Bare {
    Number(i64),
    Text(String),
    Nothing(Option<()>),
    List(Vec<Any>),
    Sorted(BTreeMap<u8, Any>),
    Hashed(HashMap<String, Any>),
}

fn state() -> impl Strategy<Value = Any> {
    let plain = prop_oneof![
        Just(Any::Unit),
        any::<i64>().prop_map(|number| Any::Bare(Bare::Number(number))),
        "[a-z\u{e4}\n\"]{0,200}".prop_map(|text| Any::Bare(Bare::Text(text))),
        Just(Any::Bare(Bare::Nothing(None))),
    ];
    plain.prop_recursive(4, 200, 40, |inner| {
        let boxed = || inner.clone().prop_map(Box::new);
        prop_oneof![
            boxed().prop_map(Any::One),
            (any::<bool>(), boxed()).prop_map(|(first, second)| Any::Two(first, second)),
            (any::<f64>(), boxed()).prop_map(|(level, inside)| Any::Named { level, inside }),
            prop::collection::vec(inner.clone(), 0..50).prop_map(|list| Any::Bare(Bare::List(list))),
            prop::collection::vec((any::<u8>(), inner.clone()), 0..40)
                .prop_map(|map| Any::Bare(Bare::Sorted(map.into_iter().collect()))),
            prop::collection::vec(("[a-z]{0,4}", inner), 0..40)
                .prop_map(|map| Any::Bare(Bare::Hashed(map.into_iter().collect()))),
        ]
    })
}

fn whole(state: &impl Serialize) -> Data {
    serde_json::to_value(state).unwrap().into()
}

proptest! {
    /// A look at state shows what a look at all of its data would.
    #[test]
    fn an_outline_is_that_of_the_whole(state in state(), start in 0..45_usize, count in 0..45_usize) {
        for aspect in [Aspect::Itself, Aspect::Inside(Page { start, count })] {
            let (seen, data) = (Outline::of(&state, aspect), Outline::of_data(&whole(&state), aspect));
            prop_assert_eq!(preview(&seen), preview(&data));
            prop_assert_eq!(seen, data);
        }
    }
}

/// Counts which of its elements serde was asked for.
struct Counted<'a>(&'a Cell<usize>);

impl Serialize for Counted<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.0.set(self.0.get() + 1);
        let fields: BTreeMap<_, _> = (0..500).map(|at| (at, at)).collect();
        fields.serialize(serializer)
    }
}

#[test]
fn only_what_is_shown_is_visited() {
    let visited = Cell::new(0);
    let rows: Vec<_> = (0..100_000).map(|_| Counted(&visited)).collect();
    let state = BTreeMap::from([("rows", rows)]);
    let place = TreePath { root: Root::Host, path: Path::default() };
    let page = Outline::of(&state["rows"], Aspect::Inside(Page { start: 60_000, count: 100 }));
    assert_eq!(visited.replace(0), 100);
    let page = list(page, &place, Notation::OF_DATA);
    assert_eq!((page.total, page.items.len(), page.items[99].name.as_str()), (100_000, 100, "[60099]"));
    assert_eq!(page.items[0].value.children.as_ref().unwrap().named, 500);
    let itself = describe(&Outline::of(&state, Aspect::Itself), &place);
    assert_eq!(visited.get(), IN_A_LINE);
    assert!(itself.preview.starts_with("{rows: [{…}, {…}"), "{}", itself.preview);
}

#[test]
fn a_large_map_keeps_its_own_order_and_a_small_one_that_of_its_names() {
    let page = Page { start: 700, count: 200 };
    let names = |count: usize| {
        let map: HashMap<_, _> = (0..count).map(|at| (format!("{at:05}"), at)).collect();
        let Outline::Object(fields) = Outline::of(&map, Aspect::Inside(page)) else { panic!("an object") };
        assert_eq!((fields.total, fields.total_is_all), (count, true));
        let names = fields.items.into_iter().map(|(name, _)| name).collect::<Vec<_>>();
        (names, map.into_keys().skip(page.start).take(page.count).collect::<Vec<_>>())
    };
    let (small, _) = names(1000);
    assert_eq!(small, (700..900).map(|at| format!("{at:05}")).collect::<Vec<_>>());
    let (large, own) = names(1001);
    assert_eq!(large, own);
}

/// A list that does not say how long it is.
struct Endless(usize);

impl Serialize for Endless {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut parts = serializer.serialize_seq(None)?;
        (0..self.0).try_for_each(|at| parts.serialize_element(&at))?;
        parts.end()
    }
}

#[test]
fn what_does_not_say_how_much_it_is_is_counted_within_reason() {
    for (count, shown) in
        [(12, "[12 items]".to_owned()), (1_000_000_000, format!("[at least {} items]", MOST_COUNTED + 1))]
    {
        let outline = Outline::of(&((Endless(count),),), Aspect::Itself);
        assert_eq!(preview(&outline), format!("[[{shown}]]"));
    }
}

/// What serde cannot read.
struct Poisoned;

impl Serialize for Poisoned {
    fn serialize<S: Serializer>(&self, _: S) -> Result<S::Ok, S::Error> {
        Err(serde::ser::Error::custom("the lock is poisoned"))
    }
}

#[test]
fn what_cannot_be_read_says_so_beside_what_can() {
    let state = (1, Poisoned, "x");
    assert_eq!(preview(&Outline::of(&state, Aspect::Itself)), "[1, (the lock is poisoned), \"x\"]");
}

#[test]
fn a_wide_and_deep_tree_is_looked_into_within_reason() {
    let level = |inner: Json| Json::Array(vec![inner; 40]);
    let state = Json::Array(vec![level(level(level(json!(1)))); 1000]);
    let started = Cell::new(0);
    let outline = Outline::of(&state, Aspect::Inside(Page::first(1000)));
    let Outline::List { items, .. } = &outline else { panic!("a list") };
    count(&outline, &started);
    assert_eq!((items.items.len(), items.total), (1000, 1000));
    assert!(started.get() <= MOST_OPENED + MOST_OPENED * IN_A_LINE, "{}", started.get());
    assert_eq!(preview(&items.items[999]), "[40 items]");
}

fn count(outline: &Outline, seen: &Cell<usize>) {
    seen.set(seen.get() + 1);
    if let Outline::List { items, .. } = outline {
        items.items.iter().for_each(|outline| count(outline, seen));
    }
}
