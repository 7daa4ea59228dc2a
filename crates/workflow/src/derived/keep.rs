//! Formulas kept with a study, renamed, changed.

use bothros_core::catchments::Holds;
use bothros_core::formula::Named;
use bothros_products::named::check_name;
use bothros_store::{LogLine, Record, Store};
use serde_json::json;

use super::names::{KnownName, Names, Origin};
use crate::study::settings::change_settings;
use crate::{Error, Facts, GridCache, Provenance, Result, Settings, Stage, ValueRaster, boxed};

/// Derived rasters that a study may have.
const MOST: usize = 40;

/// Keeps a formula under a name; `earlier` is the name of the one whose place it takes. It can be undone.
///
/// # Errors
/// [`Error::Refused`] for a name that cannot be said or is taken, a formula that is wrong or names itself by way of others, and
/// where others that name it would be wrong.
#[boxed]
pub async fn keep_derived(
    store: &Store,
    cache: &GridCache,
    study: i64,
    (name, formula): (&str, &str),
    earlier: Option<&str>,
) -> Result<()> {
    let (name, formula) = (name.trim(), formula.trim());
    let facts = Facts::of(&store.study(study).await?)?;
    let mut names = Names::of(store, &facts).await?;
    if let Some(earlier) = earlier {
        let there = |r: &ValueRaster| r.name == earlier && r.formula.is_some();
        if !facts.settings.rasters.iter().any(there) {
            return Err(Error::Refused(format!("there is no derived raster {earlier} any more")));
        }
    }
    let others: Vec<&KnownName> = names.all.iter().filter(|n| Some(n.name.as_str()) != earlier).collect();
    check_name(name, &|name| others.iter().any(|n| n.name == name)).map_err(Error::Refused)?;
    if let Some(earlier) = earlier.filter(|earlier| *earlier != name) {
        unnamed(&names, earlier, "give it another name")?;
    }
    // As it will be: what it names may lead back to it.
    names.all.retain(|known| Some(known.name.as_str()) != earlier);
    let with_itself = {
        let mut all = names.clone();
        all.all.push(KnownName {
            name: name.to_owned(),
            kind: Named::Raster(Default::default()),
            meaning: String::new(),
            origin: Origin::Formula(formula.to_owned()),
        });
        all
    };
    if with_itself.reached(formula).contains(name) {
        return Err(Error::Refused(format!(
            "{name} would be computed from itself: {}",
            circle(&with_itself, name)
        )));
    }
    let checked = names.check(formula).map_err(|e| Error::Refused(e.to_string()))?;
    let unit = checked.kind.unit();
    names.all.push(KnownName {
        name: name.to_owned(),
        kind: Named::Raster(unit.clone()),
        meaning: formula.to_owned(),
        origin: Origin::Formula(formula.to_owned()),
    });
    for known in &names.all {
        if let Origin::Formula(other) = &known.origin {
            names.check(other).map_err(|e| {
                Error::Refused(format!("{}, which names it, would be wrong: {e}", known.name))
            })?;
        }
    }
    // What cannot be computed is not kept.
    cache.derived_of(store, &facts, &names, formula, checked).await?;
    let change = store.change(study).await?;
    let kept = ValueRaster {
        name: name.to_owned(),
        unit: unit.to_string(),
        holds: Holds::Values,
        file: String::new(),
        sha256: String::new(),
        provenance: Provenance::default(),
        lookup: Vec::new(),
        formula: Some(formula.to_owned()),
    };
    let text = match earlier {
        Some(_) => format!("Derived raster changed: {name} = {formula}"),
        None => format!("Derived raster kept: {name} = {formula}"),
    };
    let changed = change_settings(&change, |settings: &mut Settings| {
        let place =
            earlier.and_then(|e| settings.rasters.iter().position(|r| r.name == e && r.formula.is_some()));
        if settings.rasters.iter().enumerate().any(|(at, r)| r.name == name && Some(at) != place) {
            return Err(Error::Refused(format!("there is a raster called “{name}” already")));
        }
        match place {
            Some(at) => {
                let old = settings.rasters[at].name.clone();
                settings.rasters[at] = kept;
                // Those who use it by its name go on.
                for used in [
                    &mut settings.concentration.curve_number_raster,
                    &mut settings.handover.model.impervious_raster,
                ] {
                    if used.as_deref() == Some(old.as_str()) {
                        *used = Some(name.to_owned());
                    }
                }
            }
            None if settings.rasters.iter().filter(|r| r.formula.is_some()).count() >= MOST => {
                return Err(Error::Refused(format!(
                    "a study has {MOST} derived rasters at most: remove one first"
                )));
            }
            None => settings.rasters.push(kept),
        }
        Ok(())
    })
    .await?;
    let line = LogLine::new(Stage::Terrain.title(), text.clone()).with(json!(changed.now.rasters));
    change.commit(Record::log(line).undone_by(text, changed.undo)).await?;
    Ok(())
}

/// Refuses where formulas name a raster; `instead` is what is to be done then.
pub(crate) fn unnamed(names: &Names, name: &str, instead: &str) -> Result<()> {
    let naming = names.all.iter().find(|known| match &known.origin {
        Origin::Formula(formula) => {
            known.name != name
                && bothros_core::formula::Formula::read(formula).is_ok_and(|f| f.names().contains(&name))
        }
        _ => false,
    });
    match naming {
        Some(known) => Err(Error::Refused(format!(
            "{} is computed from {name}: change its formula before you {instead}",
            known.name
        ))),
        None => Ok(()),
    }
}

/// The way from a name back to itself, in words.
fn circle(names: &Names, name: &str) -> String {
    let mut way = vec![name.to_owned()];
    loop {
        let Some(KnownName { origin: Origin::Formula(formula), .. }) =
            way.last().and_then(|last| names.find(last))
        else {
            return way.join(" → ");
        };
        let Ok(read) = bothros_core::formula::Formula::read(formula) else { return way.join(" → ") };
        let leads = |next: &&str| {
            **next == *name
                || matches!(names.find(next), Some(KnownName { origin: Origin::Formula(f), .. }) if names.reached(f).contains(name))
        };
        let next = read.names().into_iter().find(leads).map(str::to_owned);
        let Some(next) = next.filter(|_| way.len() < 2 * MOST) else { return way.join(" → ") };
        let back = next == name;
        way.push(next);
        if back {
            return way.join(" → ");
        }
    }
}
