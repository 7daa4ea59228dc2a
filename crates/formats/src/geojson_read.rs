//! Refuses GeoJSON that names an address, so that reading never opens one.

use std::fmt;
use std::io::BufReader;
use std::path::Path;

use serde::de::{Deserializer, MapAccess, SeqAccess, Visitor};

use crate::{Error, Result};

/// Refuses a file in which a CRS is said by a link (as GeoJSON of 2008 allowed): reading it would open the link.
///
/// # Errors
/// [`Error::Hostile`]; a file that is no JSON is left to the reader.
pub(crate) fn refuse_addresses(path: &Path, name: &str) -> Result<()> {
    let mut linked = false;
    let mut json = serde_json::Deserializer::from_reader(BufReader::new(std::fs::File::open(path)?));
    // Where it is no JSON, or nested too deep, the reader says so.
    let _ = json.deserialize_any(Look { linked: &mut linked, in_crs: false });
    match linked {
        false => Ok(()),
        true => Err(Error::Hostile {
            name: name.to_owned(),
            what: "its CRS is a link to an address, and nothing that is read may open one. Save it again with the CRS by name, or in WGS 84".into(),
        }),
    }
}

/// Looks through all of a document, without keeping it.
struct Look<'a> {
    linked: &'a mut bool,
    in_crs: bool,
}

impl<'de> serde::de::DeserializeSeed<'de> for Look<'_> {
    type Value = ();
    fn deserialize<D: Deserializer<'de>>(self, from: D) -> std::result::Result<(), D::Error> {
        from.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Look<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter) -> fmt::Result {
        f.write_str("JSON")
    }
    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> std::result::Result<(), A::Error> {
        while let Some(key) = map.next_key::<std::borrow::Cow<'_, str>>()? {
            let key_is = |name: &str| key.eq_ignore_ascii_case(name);
            // Whatever type is told: a CRS has no use for an address.
            if self.in_crs && key_is("href") {
                *self.linked = true;
            }
            let in_crs = key_is("crs") || self.in_crs;
            map.next_value_seed(Look { linked: &mut *self.linked, in_crs })?;
        }
        Ok(())
    }
    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> std::result::Result<(), A::Error> {
        while seq.next_element_seed(Look { linked: &mut *self.linked, in_crs: self.in_crs })?.is_some() {}
        Ok(())
    }
    fn visit_str<E>(self, text: &str) -> std::result::Result<(), E> {
        // A CRS by name is a code or words; addresses of the web are known by their scheme. OGC's own names look
        // like addresses, and are not opened.
        let lower = text.to_ascii_lowercase();
        let address = ["http://", "https://", "ftp://", "file:", "/vsi"].iter().any(|s| lower.starts_with(s));
        if self.in_crs && address && !lower.starts_with("http://www.opengis.net/def/crs/") {
            *self.linked = true;
        }
        Ok(())
    }
    fn visit_bool<E>(self, _: bool) -> std::result::Result<(), E> {
        Ok(())
    }
    fn visit_i64<E>(self, _: i64) -> std::result::Result<(), E> {
        Ok(())
    }
    fn visit_u64<E>(self, _: u64) -> std::result::Result<(), E> {
        Ok(())
    }
    fn visit_f64<E>(self, _: f64) -> std::result::Result<(), E> {
        Ok(())
    }
    fn visit_unit<E>(self) -> std::result::Result<(), E> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn refused(text: &str) -> bool {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.geojson");
        std::fs::write(&path, text).unwrap();
        refuse_addresses(&path, "a.geojson").is_err()
    }

    #[test]
    fn links_are_found_wherever_they_hide() {
        for text in [
            r#"{"crs": {"type": "link", "properties": {"href": "http://127.0.0.1:1/a"}}}"#,
            r#"{"features": [{"geometry": {"crs": {"type": "LINK", "properties": {"HREF": "x"}}}}]}"#,
            r#"{"crs": {"type": "name", "properties": {"name": "https://example.invalid/crs"}}}"#,
            r#"{"crs": "/vsicurl/http://a"}"#,
            r#"{"cr\u0073": {"properties": {"hr\u0065f": "http://a"}}}"#,
        ] {
            assert!(refused(text), "{text}");
        }
        for text in [
            r#"{"crs": {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::32628"}}}"#,
            r#"{"crs": {"type": "name", "properties": {"name": "http://www.opengis.net/def/crs/EPSG/0/32628"}}}"#,
            r#"{"features": [{"properties": {"href": "http://a", "name": "http://b"}}]}"#,
            "no JSON at all",
        ] {
            assert!(!refused(text), "{text}");
        }
    }
}
