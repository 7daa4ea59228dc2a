//! Forms as received: texts of limited length, coordinates on the earth. The meaning of fields belongs to `ui/form`.

use axum::body::Bytes;
use axum::extract::multipart::Field;
use axum::extract::{FromRequest, Request};
use axum::http::StatusCode;
use serde::de::{Deserialize, DeserializeOwned, Deserializer, Error as _};

use crate::http::error::{Result, WebError};
use crate::http::upload::broken_off;

/// Characters that a name may have.
pub(crate) const NAME: usize = 200;
/// Characters that any other text may have.
pub(crate) const TEXT: usize = 10_000;
/// Bytes of a shape that is drawn, as JSON.
const SHAPE: usize = 1 << 20;
/// Bytes of a whole form without files.
const FORM: usize = 2 << 20;
/// Fields that hold shapes.
const SHAPES: [&str; 3] = ["line", "shape", "points"];

/// A place, `x` and `y` in the coordinates of the map.
#[derive(Debug, serde::Deserialize)]
pub(crate) struct Place {
    pub x: f64,
    pub y: f64,
}

/// A form without files. Texts that PostgreSQL would not take, or that are too long, are refused in words.
pub(crate) struct Form<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Form<T> {
    type Rejection = WebError;

    async fn from_request(request: Request, state: &S) -> Result<Self> {
        let bytes = Bytes::from_request(request, state).await;
        let too_large = || WebError {
            status: StatusCode::PAYLOAD_TOO_LARGE,
            message: "the form is larger than 2 MB; send less at once".into(),
        };
        let bytes = bytes.map_err(|_| too_large())?;
        if bytes.len() > FORM {
            return Err(too_large());
        }
        fields(&bytes).map_err(WebError::refused)?;
        serde_urlencoded::from_bytes(&bytes)
            .map(Form)
            .map_err(|e| WebError::refused(format!("the form cannot be read: {e}")))
    }
}

/// The fields of a form without files, each checked.
///
/// # Errors
/// A sentence for the first that cannot be kept, or is longer than its field may be.
pub fn fields(form: &[u8]) -> std::result::Result<Vec<(String, String)>, String> {
    form_urlencoded::parse(form)
        .map(|(key, value)| match check(&key, &value) {
            Ok(()) => Ok((key.into_owned(), value.into_owned())),
            Err(error) => Err(error.message),
        })
        .collect()
}

/// Refuses a text that cannot be kept, or is longer than its field may be.
pub(crate) fn check(key: &str, value: &str) -> Result<()> {
    if value.contains('\0') {
        return Err(WebError::refused(format!("“{key}” holds the character NUL, which no text can have")));
    }
    let (most, length) = match key {
        "name" => (NAME, value.chars().count()),
        key if SHAPES.contains(&key) => (SHAPE, value.len()),
        _ => (TEXT, value.chars().count()),
    };
    match length > most {
        true => Err(WebError::refused(format!(
            "“{key}” has {} characters; it may have {}",
            crate::ui::quantity::whole(length as u64),
            crate::ui::quantity::whole(most as u64)
        ))),
        false => Ok(()),
    }
}

/// The text of a part of a form with files.
pub(crate) async fn text_of(mut field: Field<'_>, key: &str) -> Result<String> {
    let mut bytes = Vec::new();
    while let Some(piece) = field.chunk().await.map_err(broken_off)? {
        bytes.extend_from_slice(&piece);
        // A character takes four bytes at most; what comes after is not waited for.
        if bytes.len() > 4 * TEXT {
            check(key, &"x".repeat(bytes.len()))?;
        }
    }
    let text = String::from_utf8_lossy(&bytes).into_owned();
    check(key, &text)?;
    Ok(text)
}

/// The farthest that a coordinate can lie from the origin of any CRS, in its units.
const FARTHEST: f64 = 1e9;

/// A coordinate: a finite number within the earth's extent.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Coordinate(pub f64);

impl<'de> Deserialize<'de> for Coordinate {
    fn deserialize<D: Deserializer<'de>>(from: D) -> std::result::Result<Self, D::Error> {
        let value = f64::deserialize(from)?;
        match value.abs() <= FARTHEST {
            true => Ok(Self(value)),
            false => Err(D::Error::custom(format!("{value} is no coordinate"))),
        }
    }
}

/// Whether all numbers of a shape are coordinates.
pub(crate) fn are_coordinates<'a>(mut all: impl Iterator<Item = &'a f64>) -> bool {
    all.all(|v| v.abs() <= FARTHEST)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn coordinates_lie_on_the_earth() {
        let coordinate = |text: &str| serde_json::from_str::<Coordinate>(text);
        assert_eq!(coordinate("-5e8").unwrap(), Coordinate(-5e8));
        assert!(coordinate("1e10").is_err() && coordinate("null").is_err());
    }

    #[test]
    fn texts_have_a_length_and_no_nul() {
        assert!(check("name", &"ü".repeat(NAME)).is_ok() && check("name", &"a".repeat(NAME + 1)).is_err());
        assert!(check("description", &"a".repeat(TEXT)).is_ok());
        assert!(check("description", "a\0").unwrap_err().message.contains("NUL"));
        assert!(check("line", &"1".repeat(TEXT + 1)).is_ok());
    }
}
