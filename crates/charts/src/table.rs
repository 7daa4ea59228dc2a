//! The numbers behind a chart, as a table.

use crate::axis::Fitted;
use crate::{Behind, Series, Shape};

/// The numbers behind a chart: a row for each place on the axis to the right, a column for each series.
#[derive(Debug, Clone, PartialEq)]
pub struct Numbers {
    /// heads of the columns, with their units
    pub heads: Vec<String>,
    /// cells as they are told, and their values with all digits; nothing where a series has none
    pub rows: Vec<Vec<Option<(String, f64)>>>,
}

impl Numbers {
    pub(crate) fn of(series: &[&Series], behind: &[Behind], x: &Fitted, y: &Fitted) -> Self {
        let unit = |axis: &Fitted| match axis.unit.symbol {
            "" => String::new(),
            symbol => format!(", {symbol}"),
        };
        let mut heads = vec![x.title.clone()];
        heads.extend(series.iter().map(|s| format!("{}{}", s.name, unit(y))));
        heads.extend(behind.iter().map(|b| b.head.clone()));
        let mut places: Vec<f64> = series.iter().flat_map(|s| s.points.iter().map(|p| p.0)).collect();
        places.sort_by(f64::total_cmp);
        places.dedup();
        let told = |axis: &Fitted, own: f64| Some((axis.told(own), axis.unit.of(own)));
        let row = |(at, &place): (usize, &f64)| {
            let mut row = vec![match series.first().map(|s| &s.shape) {
                Some(Shape::Bars { width }) => told(x, place + width / 2.0),
                _ => told(x, place),
            }];
            row.extend(series.iter().map(|s| {
                // Series mostly have the same places.
                let here = s.points.get(at).filter(|p| p.0 == place);
                let point = here.or_else(|| s.points.iter().find(|p| p.0 == place))?;
                told(y, point.1?)
            }));
            row.extend(behind.iter().map(|b| {
                let (_, told, value) = b.numbers.iter().find(|n| n.0 == place)?;
                Some((told.clone(), *value))
            }));
            row
        };
        Self { heads, rows: places.iter().enumerate().map(row).collect() }
    }
}
