//! Host data as far as it is shown: a page of what is inside, the whole count, and enough of each for one line. However large
//! the data is, only that is turned into anything.

use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;

use serde::Serialize;
use serde::ser::{
    SerializeMap, SerializeSeq, SerializeStruct, SerializeStructVariant, SerializeTuple, SerializeTupleStruct,
    SerializeTupleVariant, Serializer,
};

use super::Data;
use super::parts::key_text;
use super::pick::{DEEPER, Error, MOST_LEVELS};
use crate::value::{PREVIEW_LIMIT, Page, Paged};

/// Parts of a list or an object that have room in a line: each takes three characters at least.
const IN_A_LINE: usize = PREVIEW_LIMIT / 3 + 1;
/// Bytes of a text that are kept: more than have room in a line.
const OF_A_TEXT: usize = PREVIEW_LIMIT * 4 + 16;
/// Objects with at most so many parts are listed in the order of their names, larger ones in their own.
const MOST_SORTED: usize = Page::MOST;
/// Parts whose inside is looked at in one walk; what comes then shows without it.
const MOST_OPENED: usize = 20_000;
/// Parts that are counted where serde is not told how many there are.
const MOST_COUNTED: usize = 100_000;

/// Which look at a part is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Aspect {
    /// What it is, in a line.
    Itself,
    /// A page of what is inside, each in a line.
    Inside(Page),
}

impl Aspect {
    /// The page of the outermost level, and how many levels are looked into.
    fn window(self) -> (Page, usize) {
        match self {
            Self::Itself => (Page::first(IN_A_LINE), 2),
            Self::Inside(page) => (Page { count: page.count.min(Page::MOST), ..page }, 3),
        }
    }
}

/// A part of the host's data as far as it is shown.
#[derive(Debug, Clone, PartialEq)]
pub enum Outline {
    /// Something with nothing inside, or that is not shown. A text holds its beginning only.
    Plain(Data),
    /// Elements in order.
    List {
        /// The number of the first one that is here, counted from 0.
        first: usize,
        /// Those that are here.
        items: Paged<Outline>,
    },
    /// Parts by name: in the order of their names where there are at most [`Page::MOST`], otherwise in their own.
    Object(Paged<(String, Outline)>),
}

impl Outline {
    /// That of some state.
    pub fn of<T: Serialize + ?Sized>(state: &T, aspect: Aspect) -> Self {
        let (page, levels) = aspect.window();
        let opened = Cell::new(MOST_OPENED);
        take(state, Frame { page, levels, wrapped: MOST_LEVELS, opened: &opened })
    }

    /// That of data.
    #[must_use]
    pub fn of_data(data: &Data, aspect: Aspect) -> Self {
        let (page, levels) = aspect.window();
        Self::of_level(data, page, levels)
    }

    fn of_level(data: &Data, page: Page, levels: usize) -> Self {
        let page = if levels == 0 { Page::first(0) } else { page };
        let inside = |data: &Data| Self::of_level(data, Page::first(IN_A_LINE), levels - 1);
        match data {
            Data::List(items) => Self::List { first: page.start, items: page.of(items.len(), items.iter(), inside) },
            Data::Object(fields) => {
                let named = |(name, data): (&String, &Data)| (name.clone(), inside(data));
                Self::Object(page.of(fields.len(), fields.iter(), named))
            }
            Data::Text(text) => Self::Plain(Data::Text(beginning(text))),
            plain => Self::Plain(plain.clone()),
        }
    }
}

fn beginning(text: &str) -> String {
    let end = (0..=OF_A_TEXT.min(text.len())).rev().find(|end| text.is_char_boundary(*end));
    text[..end.unwrap_or(0)].to_owned()
}

/// What is taken of one level.
#[derive(Clone, Copy)]
struct Frame<'a> {
    page: Page,
    /// Levels that are looked into, this one included.
    levels: usize,
    /// How many more types may stand around one value.
    wrapped: usize,
    /// Parts that may still be looked into in this walk.
    opened: &'a Cell<usize>,
}

impl Frame<'_> {
    /// The number of the first part behind the page.
    fn end(&self) -> usize {
        if self.levels == 0 { 0 } else { self.page.start.saturating_add(self.page.count) }
    }

    /// Whether the part of a number is on the page.
    fn shows(&self, number: usize) -> bool {
        number >= self.page.start && number < self.end()
    }

    /// One level further in.
    fn below(self) -> Self {
        let left = self.opened.get();
        self.opened.set(left.saturating_sub(1));
        let levels = if left == 0 { 0 } else { self.levels.saturating_sub(1) };
        Self { page: Page::first(IN_A_LINE), levels, ..self }
    }
}

fn take<T: Serialize + ?Sized>(value: &T, frame: Frame<'_>) -> Outline {
    let found = RefCell::new(None);
    let outcome = value.serialize(Outliner { frame, found: &found });
    // What is complete ends the walk, by an error.
    match (found.take(), outcome) {
        (Some(outline), _) | (None, Ok(outline)) => outline,
        (None, Err(why)) => Outline::Plain(Data::Unreadable(why.to_string())),
    }
}

/// Takes the outline of one value.
#[derive(Clone, Copy)]
struct Outliner<'a> {
    frame: Frame<'a>,
    /// Where the outline is put as soon as it is complete.
    found: &'a RefCell<Option<Outline>>,
}

/// A list or an object while its parts come by.
struct Parts<'a> {
    outliner: Outliner<'a>,
    /// How many there are, where that is known.
    declared: Option<usize>,
    seen: usize,
    taken: Taken,
    /// The key of the next entry of a map.
    key: Option<String>,
    /// The name of an enum's variant, which stands around the parts as a field.
    around: Option<&'static str>,
}

enum Taken {
    List(Vec<Outline>),
    Sorted(BTreeMap<String, Outline>),
    AsTheyCome(Vec<(String, Outline)>),
}

impl Taken {
    fn object(declared: Option<usize>) -> Self {
        let is_sorted = declared.is_none_or(|total| total <= MOST_SORTED);
        if is_sorted { Self::Sorted(BTreeMap::new()) } else { Self::AsTheyCome(Vec::new()) }
    }
}

impl<'a> Parts<'a> {
    fn new(outliner: Outliner<'a>, declared: Option<usize>, taken: Taken) -> Result<Self, Error> {
        Self { outliner, declared, seen: 0, taken, key: None, around: None }.begun()
    }

    /// Those of an enum's variant, which is a level of its own.
    fn of_variant(outliner: Outliner<'a>, name: &'static str, total: usize, taken: Taken) -> Result<Self, Error> {
        if outliner.frame.shows(0) {
            let outliner = Outliner { frame: outliner.frame.below(), ..outliner };
            return Self { outliner, declared: Some(total), seen: 0, taken, key: None, around: Some(name) }.begun();
        }
        Err(outliner.end(Outline::Object(Paged::whole(Vec::new(), 1))))
    }

    fn begun(mut self) -> Result<Self, Error> {
        self.end_early()?;
        Ok(self)
    }

    /// Ends the walk when nothing more of what comes is shown, and how much that is is known.
    fn end_early(&mut self) -> Result<(), Error> {
        let end = self.outliner.frame.end();
        let is_complete = match &self.taken {
            Taken::Sorted(_) => end == 0,
            Taken::List(_) | Taken::AsTheyCome(_) => self.seen >= end,
        };
        let is_over = if self.declared.is_some() { is_complete } else { is_complete && self.seen > MOST_COUNTED };
        if is_over { Err(self.outliner.end(self.outline())) } else { Ok(()) }
    }

    fn element<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), Error> {
        let frame = self.outliner.frame;
        if let Taken::List(items) = &mut self.taken
            && frame.shows(self.seen)
        {
            items.push(take(value, frame.below()));
        }
        self.seen += 1;
        self.end_early()
    }

    fn field<T: Serialize + ?Sized>(&mut self, name: &str, value: &T) -> Result<(), Error> {
        let frame = self.outliner.frame;
        match &mut self.taken {
            Taken::Sorted(fields) => {
                let is_behind =
                    fields.len() >= frame.end() && fields.last_key_value().is_none_or(|(last, _)| **last < *name);
                if !is_behind {
                    fields.insert(name.to_owned(), take(value, frame.below()));
                }
                if fields.len() > frame.end() {
                    fields.pop_last();
                }
            }
            Taken::AsTheyCome(fields) if frame.shows(self.seen) => {
                fields.push((name.to_owned(), take(value, frame.below())));
            }
            Taken::AsTheyCome(_) | Taken::List(_) => {}
        }
        self.seen += 1;
        self.end_early()
    }

    /// The name of an entry, where it may be shown.
    fn name<T: Serialize + ?Sized>(&self, key: &T) -> Result<Option<String>, Error> {
        let is_wanted = matches!(self.taken, Taken::Sorted(_)) || self.outliner.frame.shows(self.seen);
        Ok(if is_wanted { Some(key_text(key)?) } else { None })
    }

    fn passed(&mut self) -> Result<(), Error> {
        self.seen += 1;
        self.end_early()
    }

    /// What has come by so far.
    fn outline(&mut self) -> Outline {
        let Page { start, .. } = self.outliner.frame.page;
        let total = self.declared.unwrap_or(self.seen).max(self.seen);
        // Where it is not, the walk ended early.
        let total_is_all = self.declared.is_some() || self.seen <= MOST_COUNTED;
        let outline = match std::mem::replace(&mut self.taken, Taken::List(Vec::new())) {
            Taken::List(items) => Outline::List { first: start, items: Paged { items, total, total_is_all } },
            Taken::AsTheyCome(items) => Outline::Object(Paged { items, total, total_is_all }),
            Taken::Sorted(fields) => {
                // Two keys of one text are one part.
                let is_all = self.seen == total && total <= self.outliner.frame.end();
                let total = if is_all { fields.len() } else { total };
                Outline::Object(Paged { items: fields.into_iter().skip(start).collect(), total, total_is_all })
            }
        };
        match self.around {
            Some(name) => Outline::Object(Paged::whole(vec![(name.to_owned(), outline)], 1)),
            None => outline,
        }
    }

    #[allow(clippy::unnecessary_wraps, reason = "it ends what serde asks for")]
    fn done(mut self) -> Result<Outline, Error> {
        Ok(self.outline())
    }
}

impl Outliner<'_> {
    /// Something with nothing inside.
    fn scalar(self, value: impl Serialize) -> Result<Outline, Error> {
        Ok(Outline::Plain(serde_json::to_value(value)?.into()))
    }

    /// Puts what is complete where it is looked for; the error that ends the walk.
    fn end(self, outline: Outline) -> Error {
        *self.found.borrow_mut() = Some(outline);
        Error::Found
    }
}

impl<'a> Serializer for Outliner<'a> {
    type Ok = Outline;
    type Error = Error;
    type SerializeSeq = Parts<'a>;
    type SerializeTuple = Parts<'a>;
    type SerializeTupleStruct = Parts<'a>;
    type SerializeTupleVariant = Parts<'a>;
    type SerializeMap = Parts<'a>;
    type SerializeStruct = Parts<'a>;
    type SerializeStructVariant = Parts<'a>;

    of_scalars!(Outline);

    fn serialize_str(self, text: &str) -> Result<Outline, Error> {
        Ok(Outline::Plain(Data::Text(beginning(text))))
    }

    fn serialize_bytes(self, bytes: &[u8]) -> Result<Outline, Error> {
        let mut parts = self.serialize_seq(Some(bytes.len()))?;
        bytes.iter().try_for_each(|byte| parts.element(byte))?;
        parts.done()
    }

    fn serialize_none(self) -> Result<Outline, Error> {
        self.serialize_unit()
    }

    fn serialize_some<T: Serialize + ?Sized>(self, value: &T) -> Result<Outline, Error> {
        value.serialize(self)
    }

    fn serialize_unit(self) -> Result<Outline, Error> {
        Ok(Outline::Plain(Data::Null))
    }

    fn serialize_unit_struct(self, _: &'static str) -> Result<Outline, Error> {
        self.serialize_unit()
    }

    fn serialize_unit_variant(self, _: &'static str, _: u32, name: &'static str) -> Result<Outline, Error> {
        self.serialize_str(name)
    }

    fn serialize_newtype_struct<T: Serialize + ?Sized>(self, _: &'static str, value: &T) -> Result<Outline, Error> {
        // It is no level of the data, but one of the stack.
        match self.frame.wrapped.checked_sub(1) {
            Some(wrapped) => value.serialize(Self { frame: Frame { wrapped, ..self.frame }, ..self }),
            None => self.serialize_str(DEEPER),
        }
    }

    fn serialize_newtype_variant<T: Serialize + ?Sized>(
        self,
        _: &'static str,
        _: u32,
        name: &'static str,
        value: &T,
    ) -> Result<Outline, Error> {
        let inside = || (name.to_owned(), take(value, self.frame.below()));
        Ok(Outline::Object(Paged::whole(self.frame.shows(0).then(inside).into_iter().collect(), 1)))
    }

    fn serialize_seq(self, total: Option<usize>) -> Result<Parts<'a>, Error> {
        Parts::new(self, total, Taken::List(Vec::new()))
    }

    fn serialize_tuple(self, total: usize) -> Result<Parts<'a>, Error> {
        self.serialize_seq(Some(total))
    }

    fn serialize_tuple_struct(self, _: &'static str, total: usize) -> Result<Parts<'a>, Error> {
        self.serialize_seq(Some(total))
    }

    fn serialize_tuple_variant(
        self,
        _: &'static str,
        _: u32,
        name: &'static str,
        total: usize,
    ) -> Result<Parts<'a>, Error> {
        Parts::of_variant(self, name, total, Taken::List(Vec::new()))
    }

    fn serialize_map(self, total: Option<usize>) -> Result<Parts<'a>, Error> {
        Parts::new(self, total, Taken::object(total))
    }

    fn serialize_struct(self, _: &'static str, total: usize) -> Result<Parts<'a>, Error> {
        self.serialize_map(Some(total))
    }

    fn serialize_struct_variant(
        self,
        _: &'static str,
        _: u32,
        name: &'static str,
        total: usize,
    ) -> Result<Parts<'a>, Error> {
        Parts::of_variant(self, name, total, Taken::object(Some(total)))
    }
}

of_parts!(Outline);

#[cfg(test)]
mod tests;
