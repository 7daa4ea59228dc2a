//! JSON as it is kept: what is written can be read again, by this version and by later ones.
//!
//! A value becomes [`Kept`] only where it can be read back: a number that JSON does not know (not a number, infinite)
//! or a text that PostgreSQL does not take is refused when it is written, not when it is read. Each document carries
//! the version of its form; an older one is brought up when it is read, step by step.

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;

use crate::{Error, Result};

/// What is kept as a JSON object.
pub trait Versioned: Serialize + DeserializeOwned {
    /// what it is, for the message that it cannot be read
    const WHAT: &'static str;
    /// of its form as this program writes it; what was kept before forms had versions counts as 0
    const VERSION: u64 = 1;
    /// Brings a document of version `from` up by one.
    fn up(from: u64, document: Json) -> Json {
        let _ = from;
        document
    }
}

/// Name of the version in a document.
const VERSION: &str = "v";

/// A document that can be kept.
#[derive(Debug, Clone, PartialEq)]
pub struct Kept(Json);

impl Kept {
    /// A value as a document.
    ///
    /// # Errors
    /// [`Error::NotKept`] where it could not be read back.
    pub fn of<T: Versioned>(value: &T) -> Result<Self> {
        let mut document = checked(value)?;
        if let Json::Object(fields) = &mut document {
            fields.insert(VERSION.into(), T::VERSION.into());
        }
        Self::read_from::<T>(&document)?;
        Ok(Self(document))
    }

    fn read_from<T: Versioned>(document: &Json) -> Result<()> {
        match read::<T>(document.clone()) {
            Ok(_) => Ok(()),
            Err(_) => Err(Error::NotKept("a number in it is no number that can be kept".into())),
        }
    }

    /// The document, for a file.
    pub fn document(&self) -> &Json {
        &self.0
    }

    /// No values, for what has none.
    pub fn empty() -> Self {
        Self(Json::Object(Default::default()))
    }

    /// The document.
    pub fn into_json(self) -> Json {
        self.0
    }
}

/// A value as JSON that PostgreSQL takes, for what is only shown.
///
/// # Errors
/// [`Error::NotKept`] for a text that PostgreSQL does not take.
pub(crate) fn checked(value: &impl Serialize) -> Result<Json> {
    let document = serde_json::to_value(value).map_err(|e| Error::NotKept(e.to_string()))?;
    match has_nul(&document) {
        true => Err(Error::NotKept("a text in it holds the character NUL".into())),
        false => Ok(document),
    }
}

fn has_nul(document: &Json) -> bool {
    match document {
        Json::String(text) => text.contains('\0'),
        Json::Array(all) => all.iter().any(has_nul),
        Json::Object(fields) => fields.iter().any(|(name, value)| name.contains('\0') || has_nul(value)),
        _ => false,
    }
}

/// Reads a document, of this version or an earlier one.
///
/// # Errors
/// [`Error::Unreadable`] where it is damaged, or was written by a later version.
pub fn read<T: Versioned>(mut document: Json) -> Result<T> {
    let unreadable = |why: String| Error::Unreadable { what: T::WHAT, why };
    let version = match &mut document {
        Json::Object(fields) => fields.remove(VERSION).and_then(|v| v.as_u64()).unwrap_or(0),
        _ => 0,
    };
    if version > T::VERSION {
        return Err(unreadable("a later version of Bothros wrote it; use that one".into()));
    }
    for from in version..T::VERSION {
        document = T::up(from, document);
    }
    serde_json::from_value(document).map_err(|e| unreadable(e.to_string()))
}

/// Reads a document, where there is one.
///
/// # Errors
/// Those of [`read`].
pub fn read_some<T: Versioned>(document: &Option<Json>) -> Result<Option<T>> {
    document.clone().map(read).transpose()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde::Deserialize;
    use serde_json::json;

    #[derive(Debug, PartialEq, Serialize, Deserialize)]
    struct Ditch {
        depth_m: f64,
        name: String,
    }

    impl Versioned for Ditch {
        const WHAT: &'static str = "the ditch";
        const VERSION: u64 = 2;
        fn up(from: u64, mut document: Json) -> Json {
            match from {
                0 => document["name"] = json!("unnamed"),
                _ => document["depth_m"] = json!(document["depth_cm"].as_f64().unwrap_or_default() / 100.0),
            }
            document
        }
    }

    #[test]
    fn what_cannot_be_read_back_is_not_kept() {
        let ditch = |depth_m: f64, name: &str| Ditch { depth_m, name: name.into() };
        for bad in [f64::NAN, f64::INFINITY, f64::NEG_INFINITY] {
            assert!(matches!(Kept::of(&ditch(bad, "a")), Err(Error::NotKept(_))));
        }
        assert!(matches!(Kept::of(&ditch(1.0, "a\0b")), Err(Error::NotKept(_))));
        for good in [0.0, -0.0, f64::MAX, f64::MIN_POSITIVE, 0.1] {
            let kept = Kept::of(&ditch(good, "ü")).unwrap();
            assert_eq!(read::<Ditch>(kept.into_json()).unwrap(), ditch(good, "ü"));
        }
    }

    #[test]
    fn earlier_forms_are_brought_up_and_later_ones_told() {
        let oldest = read::<Ditch>(json!({ "depth_cm": 150 })).unwrap();
        assert_eq!(oldest, Ditch { depth_m: 1.5, name: "unnamed".into() });
        let old = read::<Ditch>(json!({ "v": 1, "depth_cm": 20, "name": "b" })).unwrap();
        assert_eq!(old.depth_m, 0.2);
        let later = read::<Ditch>(json!({ "v": 3 })).unwrap_err().to_string();
        assert!(later.contains("the ditch") && later.contains("later version"), "{later}");
        assert!(read::<Ditch>(json!({ "v": 2, "name": 3 })).is_err());
    }
}
