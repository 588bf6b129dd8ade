//! What a host says of where its things lie.

use super::{About, Data};
use crate::path::{Notation, Path, PathError};
use crate::plan::{Area, Thing};

/// A number of a thing: a field of it, by its path from the thing on, or the same for all.
#[derive(Debug, Clone, PartialEq)]
pub enum Measure {
    /// The field at a path, `spot.x`.
    Field(String),
    /// The same for all.
    Number(f64),
}

impl From<&str> for Measure {
    fn from(path: &str) -> Self {
        Self::Field(path.to_owned())
    }
}

impl From<f64> for Measure {
    fn from(number: f64) -> Self {
        Self::Number(number)
    }
}

/// How a part of an object lies on a plane: which of its fields say so. All are in one unit; the angle is in degrees, from the x axis
/// towards the y axis.
///
/// ```
/// use adzeman_core::host::{About, Placed};
///
/// let about = About::new("boats on the canal")
///     .placed("*", Placed::at("spot.x", "spot.y").sized("length", 3.4).turned("spot.degrees").named("name").in_unit("m"));
/// assert!(about.check().is_ok());
/// ```
#[derive(Debug, Clone, PartialEq)]
pub struct Placed {
    x: Measure,
    y: Measure,
    length: Measure,
    width: Measure,
    degrees: Option<Measure>,
    name: Option<String>,
    note: Option<String>,
    /// What it is measured in.
    pub unit: String,
    /// Whether other things lie on it.
    pub is_ground: bool,
    /// What it should lie in.
    pub area: Option<Area>,
}

impl Placed {
    /// The fields that are its middle. Without a size it is a point.
    #[must_use]
    pub fn at(x: impl Into<Measure>, y: impl Into<Measure>) -> Self {
        Self {
            x: x.into(),
            y: y.into(),
            length: Measure::Number(0.0),
            width: Measure::Number(0.0),
            degrees: None,
            name: None,
            note: None,
            unit: String::new(),
            is_ground: false,
            area: None,
        }
    }

    /// Its size: along its direction, and across.
    #[must_use]
    pub fn sized(mut self, length: impl Into<Measure>, width: impl Into<Measure>) -> Self {
        (self.length, self.width) = (length.into(), width.into());
        self
    }

    /// Which way it points.
    #[must_use]
    pub fn turned(mut self, degrees: impl Into<Measure>) -> Self {
        self.degrees = Some(degrees.into());
        self
    }

    /// The field that is its name.
    #[must_use]
    pub fn named(mut self, field: &str) -> Self {
        self.name = Some(field.to_owned());
        self
    }

    /// A field that is shown beside the name.
    #[must_use]
    pub fn noted(mut self, field: &str) -> Self {
        self.note = Some(field.to_owned());
        self
    }

    /// What all of it is measured in.
    #[must_use]
    pub fn in_unit(mut self, unit: &str) -> Self {
        unit.clone_into(&mut self.unit);
        self
    }

    /// Other things lie on it: it overlaps with none.
    #[must_use]
    pub fn as_ground(mut self) -> Self {
        self.is_ground = true;
        self
    }

    /// What it should lie in: from the least x and y to the most.
    #[must_use]
    pub fn within(mut self, (left, low): (f64, f64), (right, high): (f64, f64)) -> Self {
        self.area = Some(Area { left, low, right, high });
        self
    }

    /// Whether all that was said is of paths.
    pub(super) fn check(&self) -> Result<(), PathError> {
        let measures = [Some(&self.x), Some(&self.y), Some(&self.length), Some(&self.width), self.degrees.as_ref()];
        let measures = measures.into_iter().flatten().filter_map(|measure| match measure {
            Measure::Field(path) => Some(path),
            Measure::Number(_) => None,
        });
        measures.chain(&self.name).chain(&self.note).try_for_each(|path| parse(path).map(|_| ()))
    }

    /// Where the thing at `path` lies, by what it holds.
    ///
    /// # Errors
    /// The field that is no number, or not there, or secret.
    pub fn thing(&self, path: String, about: (&About, &Path), data: &Data) -> Result<Thing, String> {
        let number = |measure: &Measure| match measure {
            Measure::Number(number) => Ok(*number),
            Measure::Field(field) => match field_of(field, data) {
                Some(Data::Number(number)) if number.as_f64().is_some_and(f64::is_finite) => {
                    Ok(number.as_f64().unwrap_or_default())
                }
                _ => Err(format!("{path} has no number '{field}' to lie by")),
            },
        };
        let text = |field: &Option<String>| {
            let field = field.as_ref()?;
            let unit = parse(field).ok().and_then(|rest| {
                let whole = rest.segments().iter().cloned().fold(about.1.clone(), |path, step| path.join(step));
                Some(about.0.part(&whole)?.unit.clone()).filter(|unit| !unit.is_empty())
            });
            let value = match field_of(field, data)? {
                Data::Text(text) => text.clone(),
                Data::Number(number) if number.is_f64() => format!("{:.2}", number.as_f64().unwrap_or_default()),
                Data::Number(number) => number.to_string(),
                Data::Boolean(truth) => truth.to_string(),
                _ => return None,
            };
            Some(unit.map_or(value.clone(), |unit| format!("{value} {unit}")))
        };
        let name = text(&self.name).unwrap_or_else(|| path.clone());
        Ok(Thing {
            name,
            x: number(&self.x)?,
            y: number(&self.y)?,
            length: number(&self.length)?,
            width: number(&self.width)?,
            degrees: self.degrees.as_ref().map(number).transpose()?,
            ground: self.is_ground,
            note: text(&self.note),
            path,
        })
    }
}

fn parse(path: &str) -> Result<Path, PathError> {
    Path::parse(path, Notation::OF_DATA)
}

fn field_of<'d>(path: &str, data: &'d Data) -> Option<&'d Data> {
    parse(path).ok()?.walk(data).ok()
}
