//! What can be wrong with a definition, and where that is in its text.

use super::place;

/// Why a text is not a definition.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DefinitionError {
    /// Not TOML, or not with these keys.
    #[error("{0}")]
    Syntax(toml::de::Error),
    /// A value that cannot be used.
    #[error("{key} is {value:?}: {expected}")]
    Value {
        /// The key.
        key: &'static str,
        /// Its value.
        value: String,
        /// What it should be.
        expected: String,
    },
}

impl DefinitionError {
    /// Where in `text`, which was read, it is: the offset of a byte.
    pub fn place_in(&self, text: &str) -> Option<usize> {
        match self {
            DefinitionError::Syntax(error) => place::of_syntax(text, error),
            DefinitionError::Value { key, value, .. } => place::of_value(text, key, value),
        }
    }
}

/// Turns a value that is not good into an error.
pub(crate) fn check(
    good: bool,
    key: &'static str,
    value: &str,
    expected: &str,
) -> Result<(), DefinitionError> {
    match good {
        true => Ok(()),
        false => Err(DefinitionError::Value {
            key,
            value: value.to_owned(),
            expected: expected.to_owned(),
        }),
    }
}
