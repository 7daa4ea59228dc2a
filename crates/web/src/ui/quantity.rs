//! The units that the visitor has chosen, from a cookie. What is told in them is worded by [`bothros_workflow::quantity`].

use axum::extract::Request;
use axum::http::{HeaderMap, header};
use axum::middleware::Next;
use axum::response::Response;
use bothros_products::Units;
pub use bothros_workflow::quantity::*;

/// The cookie that keeps the choice.
pub const COOKIE: &str = "bothros_units";

/// Takes the units from the visitor's cookie, for all that answers the request.
pub async fn as_chosen(request: Request, next: Next) -> Response {
    let units = chosen(request.headers());
    scoped(units, next.run(request)).await
}

fn chosen(headers: &HeaderMap) -> Units {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|c| c.to_str().ok());
    let mut pairs = cookies.flat_map(|c| c.split(';')).filter_map(|c| c.trim().split_once('='));
    pairs.find(|(name, _)| *name == COOKIE).and_then(|(_, key)| Units::of_key(key)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::http::HeaderValue;
    use rstest::rstest;

    #[rstest]
    #[case("", Units::Metric)]
    #[case("bothros_units=us", Units::UsCustomary)]
    #[case("a=b; bothros_units=us; c=d", Units::UsCustomary)]
    #[case("bothros_units=leagues", Units::Metric)]
    #[case("other_bothros_units=us", Units::Metric)]
    fn the_cookie_chooses(#[case] cookie: &'static str, #[case] units: Units) {
        let mut headers = HeaderMap::new();
        headers.insert(header::COOKIE, HeaderValue::from_static(cookie));
        assert_eq!(chosen(&headers), units);
    }
}
