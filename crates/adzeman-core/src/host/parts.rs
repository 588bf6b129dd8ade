//! What walks of serde through host data share: the traits for what has parts, and the names of a map's entries.

use std::fmt::{self, Display, Write};

use serde::Serialize;

/// The key of a map's entry as a name. It is a text or displays as one; others are shown as JSON.
pub(super) fn key_text<T: Serialize + ?Sized>(key: &T) -> Result<String, serde_json::Error> {
    let mut text = String::new();
    match write!(text, "{}", Shown(key)) {
        Ok(()) => Ok(text),
        Err(fmt::Error) => serde_json::to_value(key).map(|key| key.to_string()),
    }
}

/// Whether [`key_text`] is this. A key that is a text is not copied: maps are searched by this.
pub(super) fn key_is<T: Serialize + ?Sized>(key: &T, wanted: &str) -> bool {
    let mut left = Left { wanted: Some(wanted) };
    match write!(left, "{}", Shown(key)) {
        Ok(()) => left.wanted == Some(""),
        Err(fmt::Error) => key_text(key).is_ok_and(|text| text == wanted),
    }
}

/// Shows what serde would write without any structure.
struct Shown<'a, T: ?Sized>(&'a T);

impl<T: Serialize + ?Sized> Display for Shown<'_, T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.serialize(f)
    }
}

/// What is left of a text while its beginning is written; nothing once something else was.
struct Left<'a> {
    wanted: Option<&'a str>,
}

impl Write for Left<'_> {
    fn write_str(&mut self, text: &str) -> fmt::Result {
        self.wanted = self.wanted.and_then(|wanted| wanted.strip_prefix(text));
        Ok(())
    }
}

/// What has nothing inside, but for texts, is all the same to a serializer, which has the method `scalar` for it.
macro_rules! of_scalars {
    ($ok:ty) => {
        of_scalars!(
            $ok:
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
        );
    };
    ($ok:ty: $($method:ident($type:ty)),* $(,)?) => {$(
        fn $method(self, value: $type) -> Result<$ok, Error> {
            self.scalar(value)
        }
    )*};
}

// The traits, by the methods `element`, `field`, `passed`, `name`, and `done` of a type `Parts`, and its `key`.

/// Those with elements and no names differ in two names only, and so do those with names.
macro_rules! of_parts {
    ($ok:ty) => {
        of_parts!(
            $ok:
            SerializeSeq::serialize_element,
            SerializeTuple::serialize_element,
            SerializeTupleStruct::serialize_field,
            SerializeTupleVariant::serialize_field,
        );
        of_parts!($ok: SerializeStruct, SerializeStructVariant);

        impl SerializeMap for Parts<'_> {
            type Ok = $ok;
            type Error = Error;

            fn serialize_key<T: Serialize + ?Sized>(&mut self, key: &T) -> Result<(), Error> {
                self.key = self.name(key)?;
                Ok(())
            }

            fn serialize_value<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), Error> {
                match self.key.take() {
                    Some(key) => self.field(&key, value),
                    None => self.passed(),
                }
            }

            fn end(self) -> Result<$ok, Error> {
                self.done()
            }
        }
    };
    ($ok:ty: $($name:ident::$method:ident),* $(,)?) => {$(
        impl $name for Parts<'_> {
            type Ok = $ok;
            type Error = Error;

            fn $method<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), Error> {
                self.element(value)
            }

            fn end(self) -> Result<$ok, Error> {
                self.done()
            }
        }
    )*};
    ($ok:ty: $($name:ident),*) => {$(
        impl $name for Parts<'_> {
            type Ok = $ok;
            type Error = Error;

            fn serialize_field<T: Serialize + ?Sized>(&mut self, name: &'static str, value: &T) -> Result<(), Error> {
                self.field(name, value)
            }

            fn end(self) -> Result<$ok, Error> {
                self.done()
            }
        }
    )*};
}
