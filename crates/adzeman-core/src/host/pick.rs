//! Picks one part out of host state by serde, without turning the rest into data: a path into a large object costs what the
//! path costs.

use serde::Serialize;
use serde::ser::{
    Impossible, SerializeMap, SerializeSeq, SerializeStruct, SerializeTuple, SerializeTupleStruct, Serializer,
};
use serde_json::Value as Json;

use super::{Path, Segment};

type Error = serde_json::Error;

/// What a path names within some state; `None` when there is nothing.
///
/// # Errors
/// What serde says of the part picked.
pub fn pick<T: Serialize + ?Sized>(state: &T, path: &Path) -> Result<Option<Json>, Error> {
    state.serialize(Picker { path: path.segments() })
}

#[derive(Clone, Copy)]
struct Picker<'a> {
    path: &'a [Segment],
}

/// What is picked from while its parts come by.
struct Parts<'a> {
    path: &'a [Segment],
    /// The number of the next element.
    next: usize,
    /// The key of the next entry of a map.
    key: Option<String>,
    /// All parts, when everything is wanted, and otherwise the one that is.
    found: Found,
}

enum Found {
    /// The one part wanted, once it came by.
    One(Option<Json>),
    List(Vec<Json>),
    Object(serde_json::Map<String, Json>),
}

impl<'a> Parts<'a> {
    fn new(path: &'a [Segment], whole: Found) -> Self {
        Self { path, next: 0, key: None, found: if path.is_empty() { whole } else { Found::One(None) } }
    }

    fn element<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), Error> {
        let number = self.next;
        self.next += 1;
        match (&mut self.found, self.path.split_first()) {
            (Found::List(items), _) => items.push(serde_json::to_value(value)?),
            (Found::One(found), Some((Segment::Index(wanted), rest))) if *wanted == number => {
                *found = value.serialize(Picker { path: rest })?;
            }
            _ => {}
        }
        Ok(())
    }

    fn field<T: Serialize + ?Sized>(&mut self, name: &str, value: &T) -> Result<(), Error> {
        match (&mut self.found, self.path.split_first()) {
            (Found::Object(fields), _) => {
                fields.insert(name.to_owned(), serde_json::to_value(value)?);
            }
            (Found::One(found), Some((Segment::Field(wanted), rest))) if wanted == name => {
                *found = value.serialize(Picker { path: rest })?;
            }
            _ => {}
        }
        Ok(())
    }

    fn done(self) -> Option<Json> {
        match self.found {
            Found::One(found) => found,
            Found::List(items) => Some(Json::Array(items)),
            Found::Object(fields) => Some(Json::Object(fields)),
        }
    }
}

/// Something with nothing inside: wanted as it is, or not there.
macro_rules! scalars {
    ($($method:ident($type:ty)),* $(,)?) => {$(
        fn $method(self, value: $type) -> Result<Option<Json>, Error> {
            if self.path.is_empty() { serde_json::to_value(value).map(Some) } else { Ok(None) }
        }
    )*};
}

fn object<'a>(path: &'a [Segment]) -> Parts<'a> {
    Parts::new(path, Found::Object(serde_json::Map::new()))
}

/// The part behind the name of an enum's variant, which stands around it as a field.
fn variant<'a>(picker: Picker<'a>, name: &str) -> Option<Picker<'a>> {
    match picker.path.split_first() {
        Some((Segment::Field(wanted), rest)) if wanted == name => Some(Picker { path: rest }),
        _ => None,
    }
}

/// A variant with several parts: too rare to be picked from piece by piece.
type Rare = Impossible<Option<Json>, Error>;

impl<'a> Serializer for Picker<'a> {
    type Ok = Option<Json>;
    type Error = Error;
    type SerializeSeq = Parts<'a>;
    type SerializeTuple = Parts<'a>;
    type SerializeTupleStruct = Parts<'a>;
    type SerializeTupleVariant = Rare;
    type SerializeMap = Parts<'a>;
    type SerializeStruct = Parts<'a>;
    type SerializeStructVariant = Rare;

    scalars!(
        serialize_bool(bool),
        serialize_i8(i8),
        serialize_i16(i16),
        serialize_i32(i32),
        serialize_i64(i64),
        serialize_i128(i128),
        serialize_u8(u8),
        serialize_u16(u16),
        serialize_u32(u32),
        serialize_u64(u64),
        serialize_u128(u128),
        serialize_f32(f32),
        serialize_f64(f64),
        serialize_char(char),
        serialize_str(&str),
    );

    fn serialize_bytes(self, bytes: &[u8]) -> Result<Option<Json>, Error> {
        let mut parts = self.serialize_seq(None)?;
        bytes.iter().try_for_each(|byte| parts.element(byte))?;
        Ok(parts.done())
    }

    fn serialize_none(self) -> Result<Option<Json>, Error> {
        self.serialize_unit()
    }

    fn serialize_some<T: Serialize + ?Sized>(self, value: &T) -> Result<Option<Json>, Error> {
        value.serialize(self)
    }

    fn serialize_unit(self) -> Result<Option<Json>, Error> {
        Ok(self.path.is_empty().then_some(Json::Null))
    }

    fn serialize_unit_struct(self, _: &'static str) -> Result<Option<Json>, Error> {
        self.serialize_unit()
    }

    fn serialize_unit_variant(self, _: &'static str, _: u32, name: &'static str) -> Result<Option<Json>, Error> {
        self.serialize_str(name)
    }

    fn serialize_newtype_struct<T: Serialize + ?Sized>(
        self,
        _: &'static str,
        value: &T,
    ) -> Result<Option<Json>, Error> {
        value.serialize(self)
    }

    fn serialize_newtype_variant<T: Serialize + ?Sized>(
        self,
        _: &'static str,
        _: u32,
        name: &'static str,
        value: &T,
    ) -> Result<Option<Json>, Error> {
        if self.path.is_empty() {
            return Ok(Some(serde_json::json!({ name: serde_json::to_value(value)? })));
        }
        variant(self, name).map_or(Ok(None), |inner| value.serialize(inner))
    }

    fn serialize_seq(self, _: Option<usize>) -> Result<Parts<'a>, Error> {
        Ok(Parts::new(self.path, Found::List(Vec::new())))
    }

    fn serialize_tuple(self, length: usize) -> Result<Parts<'a>, Error> {
        self.serialize_seq(Some(length))
    }

    fn serialize_tuple_struct(self, _: &'static str, length: usize) -> Result<Parts<'a>, Error> {
        self.serialize_seq(Some(length))
    }

    fn serialize_tuple_variant(self, _: &'static str, _: u32, _: &'static str, _: usize) -> Result<Rare, Error> {
        Err(serde::ser::Error::custom(RARE))
    }

    fn serialize_map(self, _: Option<usize>) -> Result<Parts<'a>, Error> {
        Ok(object(self.path))
    }

    fn serialize_struct(self, _: &'static str, _: usize) -> Result<Parts<'a>, Error> {
        Ok(object(self.path))
    }

    fn serialize_struct_variant(self, _: &'static str, _: u32, _: &'static str, _: usize) -> Result<Rare, Error> {
        Err(serde::ser::Error::custom(RARE))
    }
}

const RARE: &str = "a variant of several parts is not picked from";

/// The three traits for what has elements and no names differ in two names only.
macro_rules! elements {
    ($($name:ident::$method:ident),*) => {$(
        impl $name for Parts<'_> {
            type Ok = Option<Json>;
            type Error = Error;

            fn $method<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), Error> {
                self.element(value)
            }

            fn end(self) -> Result<Option<Json>, Error> {
                Ok(self.done())
            }
        }
    )*};
}
elements!(SerializeSeq::serialize_element, SerializeTuple::serialize_element, SerializeTupleStruct::serialize_field);

impl SerializeMap for Parts<'_> {
    type Ok = Option<Json>;
    type Error = Error;

    fn serialize_key<T: Serialize + ?Sized>(&mut self, key: &T) -> Result<(), Error> {
        self.key = Some(match serde_json::to_value(key)? {
            Json::String(text) => text,
            other => other.to_string(),
        });
        Ok(())
    }

    fn serialize_value<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), Error> {
        let key = self.key.take().unwrap_or_default();
        self.field(&key, value)
    }

    fn end(self) -> Result<Option<Json>, Error> {
        Ok(self.done())
    }
}

impl SerializeStruct for Parts<'_> {
    type Ok = Option<Json>;
    type Error = Error;

    fn serialize_field<T: Serialize + ?Sized>(&mut self, name: &'static str, value: &T) -> Result<(), Error> {
        self.field(name, value)
    }

    fn end(self) -> Result<Option<Json>, Error> {
        Ok(self.done())
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::*;

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
        for gate in [Gate::Shut, Gate::Ajar(vec![1, 2])] {
            let state = lock(gate);
            let whole = serde_json::to_value(&state).unwrap();
            let paths = [
                "",
                "level",
                "gate",
                "gate.ajar",
                "gate.ajar[1]",
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
                let path = Path::parse(text, 0).unwrap();
                let expected = crate::host::at(&whole, &path, "x").ok().cloned();
                assert_eq!(pick(&state, &path).unwrap(), expected, "{text}");
            }
        }
    }
}
