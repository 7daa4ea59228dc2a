//! Every number that people are told, in the units that the visitor has chosen; metric where nobody has, and for what is kept.
//! The units of a request are known wherever its answer is made, [`blocking`] work included.

pub use bothros_products::numbers::{bytes, count, duration, percent, plain, real, whole};
use bothros_products::{Quantity, Units};

tokio::task_local! {
    static CHOSEN: Units;
}

/// The units of the page that is being made; metric outside a request.
pub fn units() -> Units {
    CHOSEN.try_with(|u| *u).unwrap_or_default()
}

/// Answers in units.
pub async fn scoped<T>(units: Units, answer: impl Future<Output = T>) -> T {
    CHOSEN.scope(units, answer).await
}

/// Does something in units.
pub fn in_units<T>(units: Units, work: impl FnOnce() -> T) -> T {
    CHOSEN.sync_scope(units, work)
}

/// Computes on a thread of its own, in the units of the request.
pub async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> crate::Result<T> + Send + 'static,
) -> crate::Result<T> {
    let units = units();
    crate::blocking(move || CHOSEN.sync_scope(units, work)).await
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

#[cfg(test)]
mod tests {
    use super::*;

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
