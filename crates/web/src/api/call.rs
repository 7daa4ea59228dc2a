//! A request to the interface: the address of the server as the client knows it, what is given, and the form that is wanted.

use axum::extract::FromRequestParts;
use axum::http::HeaderMap;
use axum::http::request::Parts;

use super::answer::{Base, Fault, Form, short};

/// A request.
pub struct Call {
    pub base: Base,
    /// parameters, in the order in which they were given
    pub given: Vec<(String, String)>,
    headers: HeaderMap,
}

impl<S: Sync> FromRequestParts<S> for Call {
    type Rejection = std::convert::Infallible;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Self::Rejection> {
        let base = Base::from_request_parts(parts, state).await?;
        let query = parts.uri.query().unwrap_or_default();
        let given = form_urlencoded::parse(query.as_bytes()).into_owned().collect();
        Ok(Self { base, given, headers: parts.headers.clone() })
    }
}

impl Call {
    /// The address of a study's features.
    pub fn root(&self, study: i64) -> String {
        format!("{}/studies/{study}/ogc", self.base.0)
    }

    /// The value of a parameter, which may be given once.
    ///
    /// # Errors
    /// A fault of the client where it is given more often.
    pub fn one(&self, name: &str) -> Result<Option<&str>, Fault> {
        let mut all = self.given.iter().filter(|(key, _)| key == name);
        let first = all.next().map(|(_, value)| value.as_str());
        match all.next() {
            Some(_) => Err(Fault::wrong(format!("{name} is given more than once"))),
            None => Ok(first),
        }
    }

    /// The form of the answer that is asked for.
    ///
    /// # Errors
    /// As [`Form::of`].
    pub fn form(&self) -> Result<Form, Fault> {
        Form::of(self.one("f")?, &self.headers)
    }

    /// The same, of a request that knows no parameters but `f` and those that are named.
    ///
    /// # Errors
    /// A fault of the client for any other.
    pub fn form_of(&self, known: &[&str]) -> Result<Form, Fault> {
        let is_known = |name: &str| name == "f" || known.contains(&name);
        match self.given.iter().find(|(name, _)| !is_known(name)) {
            Some((name, _)) => Err(Fault::wrong(format!("there is no parameter {}", short(name)))),
            None => self.form(),
        }
    }

    /// An address with what was given, from another place of the list on, in another form.
    pub fn at_offset(&self, own: &str, offset: usize, f: &str) -> String {
        let mut query = form_urlencoded::Serializer::new(String::new());
        for (name, value) in self.given.iter().filter(|(name, _)| name != "offset" && name != "f") {
            query.append_pair(name, value);
        }
        query.append_pair("f", f);
        if offset > 0 {
            query.append_pair("offset", &offset.to_string());
        }
        format!("{own}?{}", query.finish())
    }
}
