//! The way through a JSON document to its rows: one row at a time is held as a value, however large the document is.

use std::fmt;

use serde::Deserializer;
use serde::de::{DeserializeSeed, Error, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde_json::Value;
use vshelf_core::definition::json::RowStep;

/// The keys on the way to a row, each with the name of its field.
pub(super) type Keys = Vec<(String, String)>;

/// Hands each value at the end of `steps` to `each`, with the keys on its way. Fails if the document has another shape.
pub(super) fn walk(
    document: &[u8],
    steps: &[RowStep],
    each: &mut dyn FnMut(&Keys, Value),
) -> Result<(), serde_json::Error> {
    let mut deserializer = serde_json::Deserializer::from_slice(document);
    let mut keys = Keys::new();
    let way = Way {
        steps,
        keys: &mut keys,
        each,
    };
    way.deserialize(&mut deserializer)?;
    deserializer.end()
}

/// The same for a value that is at hand.
pub(super) fn walk_value(
    value: &Value,
    steps: &[RowStep],
    keys: &mut Keys,
    each: &mut dyn FnMut(&Keys, &Value),
) -> Result<(), &'static str> {
    let Some((first, rest)) = steps.split_first() else {
        each(keys, value);
        return Ok(());
    };
    match first {
        RowStep::Key(key) => {
            let inner = value.get(key).ok_or("it is missing")?;
            walk_value(inner, rest, keys, each)
        }
        RowStep::Each => {
            let list = value.as_array().ok_or("it is not a list")?;
            (list.iter()).try_for_each(|inner| walk_value(inner, rest, keys, each))
        }
        RowStep::EachKey(name) => {
            let object = value.as_object().ok_or("it is not an object")?;
            for (key, inner) in object {
                // Beside the builds there may be facts of the release.
                if inner.is_object() || inner.is_array() {
                    keys.push((name.clone(), key.clone()));
                    walk_value(inner, rest, keys, each)?;
                    keys.pop();
                }
            }
            Ok(())
        }
    }
}

/// The rest of a path.
struct Way<'w> {
    steps: &'w [RowStep],
    keys: &'w mut Keys,
    each: &'w mut dyn FnMut(&Keys, Value),
}

impl<'de> DeserializeSeed<'de> for Way<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        match self.steps {
            [] => {
                let value = serde::Deserialize::deserialize(deserializer)?;
                (self.each)(self.keys, value);
                Ok(())
            }
            _ => deserializer.deserialize_any(self),
        }
    }
}

impl Way<'_> {
    fn further(&mut self) -> Way<'_> {
        Way {
            steps: &self.steps[1..],
            keys: self.keys,
            each: self.each,
        }
    }
}

impl<'de> Visitor<'de> for Way<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.steps[0] {
            RowStep::Key(key) => write!(f, "an object with {key:?}"),
            RowStep::Each => f.write_str("a list"),
            RowStep::EachKey(name) => write!(f, "an object with a key for each {name}"),
        }
    }

    fn visit_seq<A: SeqAccess<'de>>(mut self, mut list: A) -> Result<(), A::Error> {
        if self.steps[0] != RowStep::Each {
            return Err(A::Error::invalid_type(serde::de::Unexpected::Seq, &self));
        }
        while list.next_element_seed(self.further())?.is_some() {}
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(mut self, mut object: A) -> Result<(), A::Error> {
        match &self.steps[0] {
            RowStep::Each => Err(A::Error::invalid_type(serde::de::Unexpected::Map, &self)),
            RowStep::Key(wanted) => {
                let mut is_found = false;
                while let Some(key) = object.next_key::<String>()? {
                    if key == *wanted && !is_found {
                        is_found = true;
                        object.next_value_seed(self.further())?;
                    } else {
                        object.next_value::<IgnoredAny>()?;
                    }
                }
                if is_found {
                    Ok(())
                } else {
                    Err(A::Error::custom(format_args!("it has no {wanted:?}")))
                }
            }
            RowStep::EachKey(name) => {
                while let Some(key) = object.next_key::<String>()? {
                    self.keys.push((name.clone(), key));
                    object.next_value_seed(self.further())?;
                    self.keys.pop();
                }
                Ok(())
            }
        }
    }
}
