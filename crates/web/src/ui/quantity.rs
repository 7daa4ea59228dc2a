//! Every number on a screen, in the units that the visitor has chosen. Those of a request are known wherever its answer is
//! made, [`blocking`] work included; what is kept (the log, exports) is metric.

use axum::extract::Request;
use axum::http::{HeaderMap, header};
use axum::middleware::Next;
use axum::response::Response;
pub use bothros_products::numbers::{bytes, count, duration, percent, plain, real, whole};
use bothros_products::{Quantity, Units};

/// The cookie that keeps the choice.
pub const COOKIE: &str = "bothros_units";

tokio::task_local! {
    static CHOSEN: Units;
}

/// The units of the page that is being made; metric outside a request.
pub fn units() -> Units {
    CHOSEN.try_with(|u| *u).unwrap_or_default()
}

/// Takes the units from the visitor's cookie, for all that answers the request.
pub async fn as_chosen(request: Request, next: Next) -> Response {
    let units = chosen(request.headers());
    CHOSEN.scope(units, next.run(request)).await
}

fn chosen(headers: &HeaderMap) -> Units {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|c| c.to_str().ok());
    let mut pairs = cookies.flat_map(|c| c.split(';')).filter_map(|c| c.trim().split_once('='));
    pairs.find(|(name, _)| *name == COOKIE).and_then(|(_, key)| Units::of_key(key)).unwrap_or_default()
}

/// Computes on a thread of its own, in the units of the request.
pub async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> bothros_workflow::Result<T> + Send + 'static,
) -> bothros_workflow::Result<T> {
    let units = units();
    bothros_workflow::blocking(move || CHOSEN.sync_scope(units, work)).await
}

/// Returns an area with the unit that fits; m².
pub fn area(m2: f64) -> String {
    units().area(m2)
}

/// Returns a length with the unit that fits; metres.
pub fn length(m: f64) -> String {
    units().length(m)
}

/// Returns a size that the user chose, with no more digits than it needs; metres.
pub fn size(m: f64) -> String {
    units().size(m)
}

/// Returns a volume with the unit that fits; m³.
pub fn volume(m3: f64) -> String {
    units().volume(m3)
}

/// Returns an elevation or depth to two decimals; metres.
pub fn metres(m: impl Into<f64>) -> String {
    units().height(m.into(), 2)
}

/// Returns a height or distance, in metres, with this many decimals.
pub fn metres_to(m: impl Into<f64>, decimals: usize) -> String {
    units().height(m.into(), decimals)
}

/// Returns a depth of rain or runoff; mm.
pub fn rain(mm: f64) -> String {
    let unit = Quantity::Rain.shown(units(), mm);
    let decimals = if unit.of(mm) < 10.0 { unit.most } else { 0 };
    format!("{} {}", Units::in_column(&unit, decimals, mm), unit.symbol)
}

/// Returns a value of a quantity, in the quantity's own unit, in the unit that fits it.
pub fn told(quantity: Quantity, own: f64) -> String {
    let unit = quantity.shown(units(), own);
    let decimals = match quantity {
        Quantity::Share | Quantity::Ratio | Quantity::Slope => unit.most,
        _ => unit.decimals(own),
    };
    let number = Units::in_column(&unit, decimals, own);
    format!("{number} {}", unit.symbol).trim_end().to_owned()
}

/// Returns a drainage density; km/km².
pub fn density(km_km2: f64) -> String {
    units().density(km_km2)
}

/// Returns the symbol of the unit that lengths and depths are typed in, for labels.
pub fn m() -> &'static str {
    typed_in(Quantity::Length)
}

/// Returns the symbol of the unit that a quantity is typed in.
pub fn typed_in(quantity: Quantity) -> &'static str {
    quantity.typed(units()).symbol
}

/// Returns a value as a field holds it, in the unit that it is typed in; exact to a tenth of a millimetre of the quantity.
pub fn typed(quantity: Quantity, own: f64) -> String {
    match units() {
        Units::Metric => plain(quantity.typed(Units::Metric).of(own)),
        units => format!("{}", (quantity.typed(units).of(own) * 1e3).round() / 1e3),
    }
}

/// Returns the unit of a CRS in short.
pub fn unit(name: &str) -> &str {
    match name {
        "metre" | "meter" => "m",
        "US survey foot" | "foot" | "Foot_US" => "ft",
        other => other,
    }
}

/// Does something in units, for tests.
#[cfg(test)]
pub fn in_units<T>(units: Units, work: impl FnOnce() -> T) -> T {
    CHOSEN.sync_scope(units, work)
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

    #[tokio::test]
    async fn work_on_another_thread_tells_the_same_units() {
        let told = CHOSEN.scope(Units::UsCustomary, async { blocking(|| Ok(length(3.048))).await.unwrap() });
        assert_eq!(told.await, "10.0 ft");
        assert_eq!(blocking(|| Ok(length(3.048))).await.unwrap(), "3.05 m");
    }

    #[test]
    fn a_field_shows_what_gives_the_same_value_again() {
        for metres in [0.001, 0.5, 1.0, 5.0, 30.0, 100.0, 123.456, 10_000.0] {
            CHOSEN.sync_scope(Units::UsCustomary, || {
                let feet: f64 = typed(Quantity::Length, metres).parse().unwrap();
                let back = Quantity::Length.typed(Units::UsCustomary).back(feet);
                assert_eq!((back * 1e3).round() / 1e3, metres);
            });
        }
    }
}
