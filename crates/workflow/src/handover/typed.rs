//! Parameters of single elements of the model scheme, as the analyst typed them.

use std::collections::{HashMap, HashSet};

use bothros_core::{Cell, Frame};
use bothros_products::{Column, FLOWPATHS, NEXUSES, SUBBASIN_PARAMETERS, Table};
use bothros_store::{LogLine, Record, Store};
use serde::{Deserialize, Serialize};
use serde_json::json;

use super::scheme::model_tables;
use crate::study::settings::change_settings;
use crate::{CURVE_NUMBERS, Error, Facts, GridCache, Result, Stage};

/// A parameter that can be typed for an element.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Parameter {
    /// time of concentration of a sub-basin, hours
    Tc,
    /// curve number of a sub-basin
    CurveNumber,
    /// impervious share of a sub-basin
    Impervious,
    /// Manning's n of a flowpath
    Roughness,
    /// width of the bed of a flowpath, metres
    BottomWidth,
    /// side slope of a flowpath, horizontal to vertical
    SideSlope,
    /// area of the water surface of a storage, km²
    PoolArea,
    /// width of the spillway of a storage, metres
    SpillWidth,
}

impl Parameter {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::Tc,
        Self::CurveNumber,
        Self::Impervious,
        Self::Roughness,
        Self::BottomWidth,
        Self::SideSlope,
        Self::PoolArea,
        Self::SpillWidth,
    ];

    /// The table it stands in, and the name of its column there.
    pub fn place(self) -> (&'static Table, &'static str) {
        match self {
            Self::Tc => (&SUBBASIN_PARAMETERS, "tc_h"),
            Self::CurveNumber => (&SUBBASIN_PARAMETERS, "curve_number"),
            Self::Impervious => (&SUBBASIN_PARAMETERS, "impervious_share"),
            Self::Roughness => (&FLOWPATHS, "roughness"),
            Self::BottomWidth => (&FLOWPATHS, "bottom_width_m"),
            Self::SideSlope => (&FLOWPATHS, "side_slope"),
            Self::PoolArea => (&NEXUSES, "pool_area_km2"),
            Self::SpillWidth => (&NEXUSES, "spill_width_m"),
        }
    }

    /// The parameter of a column of a table.
    pub fn at(table: &str, column: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|p| p.place().0.name == table && p.place().1 == column)
    }

    /// Names of the columns of a table that can be typed.
    pub fn columns(table: &str) -> Vec<&'static str> {
        Self::ALL.into_iter().map(Self::place).filter(|(of, _)| of.name == table).map(|p| p.1).collect()
    }

    /// Its column.
    ///
    /// # Errors
    /// Never: a test looks for all of them.
    pub fn column(self) -> Result<&'static Column> {
        let (table, name) = self.place();
        table.column(name).ok_or(Error::Refused(format!("{} has no column {name}", table.name)))
    }

    /// Least and greatest value, in the unit of its column (common practice, no source, but for curve numbers).
    pub fn limits(self) -> (f64, f64) {
        match self {
            Self::Tc => (0.001, 1000.0),
            Self::CurveNumber => CURVE_NUMBERS,
            Self::Impervious => (0.0, 1.0),
            Self::Roughness => (0.005, 1.0),
            Self::BottomWidth => (0.01, 10_000.0),
            Self::SideSlope => (0.0, 20.0),
            Self::PoolArea => (0.000_1, 10_000.0),
            Self::SpillWidth => (0.01, 10_000.0),
        }
    }
}

/// A value that was typed for an element.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct TypedValue {
    /// what it is
    pub parameter: Parameter,
    /// the element: outlet of a sub-basin, upper end of a flowpath, place of a nexus, in the study's CRS
    pub at: [f64; 2],
    /// the value, in the unit of its column
    pub value: f64,
}

/// The cells where the elements of a scheme stand.
pub(crate) struct Elements {
    /// outlets of sub-basins
    pub subbasins: HashSet<Cell>,
    /// upper ends of flowpaths
    pub flowpaths: HashSet<Cell>,
    /// nexuses that hold water back
    pub storages: HashSet<Cell>,
}

impl Elements {
    /// Whether an element that a parameter can be typed for stands at a cell.
    pub(crate) fn has(&self, parameter: Parameter, cell: Cell) -> bool {
        let of = match parameter.place().0.name {
            name if name == SUBBASIN_PARAMETERS.name => &self.subbasins,
            name if name == FLOWPATHS.name => &self.flowpaths,
            _ => &self.storages,
        };
        of.contains(&cell)
    }
}

/// Values by parameter and cell.
pub(crate) struct Typed(HashMap<(Parameter, Cell), f64>);

impl Typed {
    /// Those that lie on a grid.
    pub(crate) fn on(all: &[TypedValue], frame: &Frame) -> Self {
        let cell = |v: &TypedValue| Some(((v.parameter, frame.cell_at(v.at[0], v.at[1])?), v.value));
        Self(all.iter().filter_map(cell).collect())
    }

    /// The value that was typed for the element at a cell.
    pub(crate) fn get(&self, parameter: Parameter, cell: Cell) -> Option<f64> {
        self.0.get(&(parameter, cell)).copied()
    }

    /// The first of those that belong to no element, and how many they are.
    pub(crate) fn lost(&self, elements: &Elements) -> Option<(Parameter, Cell, usize)> {
        let mut lost: Vec<(Parameter, Cell)> =
            self.0.keys().filter(|(p, cell)| !elements.has(*p, *cell)).copied().collect();
        lost.sort_by_key(|(_, cell)| (cell.row, cell.col));
        lost.first().map(|&(parameter, cell)| (parameter, cell, lost.len()))
    }
}

/// Sets a parameter of elements, by their numbers in its table; `None` takes back what was typed. It can be undone.
///
/// # Errors
/// [`Error::Refused`] for a value outside its limits, for a number that no element has, and for nexuses that store nothing.
pub async fn set_parameter(
    store: &Store,
    cache: &GridCache,
    study: i64,
    parameter: Parameter,
    elements: &[u32],
    value: Option<f64>,
) -> Result<()> {
    let (table, _) = parameter.place();
    let title = parameter.column()?.title;
    let (least, most) = parameter.limits();
    if let Some(value) = value.filter(|v| !(least..=most).contains(v)) {
        let unit = parameter.column()?.quantity.unit().symbol();
        return Err(Error::Refused(format!(
            "{title} lies between {least} and {most} {unit}: {value} does not"
        )));
    }
    let facts = Facts::of(&store.study(study).await?)?;
    let model = model_tables(store, cache, &facts).await?;
    let frame = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?.frame;
    let mut cells = Vec::with_capacity(elements.len());
    for &id in elements {
        let place = model.place(table, id).ok_or_else(|| {
            Error::Refused(format!("there is no number {id} among the {}", table.title.to_lowercase()))
        })?;
        cells.extend(frame.cell_at(place[0], place[1]));
    }
    if table.name == NEXUSES.name {
        cells.retain(|cell| model.storages.contains(cell));
        if cells.is_empty() {
            return Err(Error::Refused("none of these nexuses is a storage: nothing was changed".into()));
        }
    }
    let elements = match cells.len() {
        0 => return Err(Error::Refused("no row is listed: nothing was changed".into())),
        1 => format!("one of the {}", table.title.to_lowercase()),
        n => format!("{n} of the {}", table.title.to_lowercase()),
    };
    let told = match value {
        Some(value) => format!("{title} of {elements} set to {value}"),
        None => format!("{title} of {elements} no longer typed"),
    };
    let change = store.change(study).await?;
    let wanted: HashSet<Cell> = cells.iter().copied().collect();
    let changed = change_settings(&change, |settings| {
        let typed = &mut settings.handover.typed;
        typed.retain(|v| {
            v.parameter != parameter || frame.cell_at(v.at[0], v.at[1]).is_none_or(|c| !wanted.contains(&c))
        });
        if let Some(value) = value {
            let at = |cell: &Cell| TypedValue { parameter, at: frame.centre(*cell).into(), value };
            typed.extend(cells.iter().map(at));
        }
        Ok(())
    })
    .await?;
    let line = LogLine::new(Stage::Handover.title(), told.clone());
    let line = line.with(json!({ "parameter": parameter, "value": value, "elements": cells.len() }));
    change.commit(Record::log(line).undone_by(told, changed.undo)).await?;
    Ok(())
}

/// Forgets the values that belong to no element any more. It can be undone.
///
/// # Errors
/// [`Error::Refused`] before there is a network.
pub async fn forget_lost(store: &Store, cache: &GridCache, study: i64) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let elements = model_tables(store, cache, &facts).await?.elements();
    let frame = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?.frame;
    let change = store.change(study).await?;
    let told = "Typed values of elements that are gone forgotten".to_owned();
    let changed = change_settings(&change, |settings| {
        settings
            .handover
            .typed
            .retain(|v| frame.cell_at(v.at[0], v.at[1]).is_some_and(|cell| elements.has(v.parameter, cell)));
        Ok(())
    })
    .await?;
    let line = LogLine::new(Stage::Handover.title(), told.clone());
    change.commit(Record::log(line).undone_by(told, changed.undo)).await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_parameter_has_a_column_of_its_own_and_is_found_by_it() {
        for parameter in Parameter::ALL {
            let (table, column) = parameter.place();
            assert!(parameter.column().is_ok(), "{parameter:?}");
            assert_eq!(Parameter::at(table.name, column), Some(parameter));
            let (least, most) = parameter.limits();
            assert!(least < most);
        }
        assert_eq!(Parameter::at("flowpaths", "length_m"), None);
        assert_eq!(Parameter::columns("flowpaths"), ["roughness", "bottom_width_m", "side_slope"]);
    }

    #[test]
    fn values_are_found_by_their_cells_and_those_without_an_element_are_told() {
        let frame = Frame { rows: 4, cols: 4, left: 0.0, top: 40.0, cell_size: 10.0, unit_m: 1.0 };
        let of = |at, value| TypedValue { parameter: Parameter::CurveNumber, at, value };
        let typed =
            Typed::on(&[of([12.0, 33.0], 70.0), of([35.0, 5.0], 80.0), of([900.0, 5.0], 1.0)], &frame);
        let cell = Cell { row: 0, col: 1 };
        assert_eq!(typed.get(Parameter::CurveNumber, cell), Some(70.0));
        assert_eq!(typed.get(Parameter::Tc, cell), None);
        let elements =
            Elements { subbasins: [cell].into(), flowpaths: HashSet::new(), storages: HashSet::new() };
        let lost = typed.lost(&elements);
        assert_eq!(lost, Some((Parameter::CurveNumber, Cell { row: 3, col: 3 }, 1)));
    }
}
