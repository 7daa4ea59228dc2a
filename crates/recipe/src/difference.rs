//! How two recipes differ, key by key.

use std::collections::BTreeMap;

use toml::{Table, Value};

use crate::{Error, Recipe, Result};

/// A key in which two recipes differ.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// the key, with dots
    pub key: String,
    /// its value in the first; none where it has none
    pub first: Option<String>,
    /// its value in the second
    pub second: Option<String>,
}

/// The keys in which two recipes differ, in alphabetical order. Of files only whether there is one counts: they have other names
/// beside every recipe.
///
/// # Errors
/// [`Error::Recipe`] where one cannot be written as TOML.
pub fn difference(first: &Recipe, second: &Recipe) -> Result<Vec<Difference>> {
    let (first, second) = (flat(first)?, flat(second)?);
    let keys: std::collections::BTreeSet<&String> = first.keys().chain(second.keys()).collect();
    let differ = keys.into_iter().filter(|key| first.get(*key) != second.get(*key));
    Ok(differ
        .map(|key| Difference {
            key: key.clone(),
            first: first.get(key).cloned(),
            second: second.get(key).cloned(),
        })
        .collect())
}

/// Keys with dots, and their values as text.
fn flat(recipe: &Recipe) -> Result<BTreeMap<String, String>> {
    let text = recipe.to_toml().map_err(|e| Error::Recipe(e.to_string()))?;
    let table: Table = toml::from_str(&text).map_err(|e| Error::Recipe(e.to_string()))?;
    let mut all = BTreeMap::new();
    let files: Vec<&str> = recipe.paths().into_iter().map(|(key, _)| key).collect();
    for (key, value) in table {
        spread(&key, &value, &files, &mut all);
    }
    Ok(all)
}

fn spread(key: &str, value: &Value, files: &[&str], into: &mut BTreeMap<String, String>) {
    if files.contains(&key) {
        let many = value.as_array().map_or(1, Vec::len);
        into.insert(key.into(), if many == 1 { "a file".into() } else { format!("{many} files") });
        return;
    }
    match value {
        Value::Table(table) => {
            for (inner, value) in table {
                spread(&format!("{key}.{inner}"), value, files, into);
            }
        }
        Value::Array(all) if all.iter().any(Value::is_table) => {
            for (at, value) in all.iter().enumerate() {
                // What has a name is known by it.
                let name = value.get("name").and_then(Value::as_str);
                let place = name.map_or_else(|| (at + 1).to_string(), str::to_owned);
                spread(&format!("{key} {place}"), value, files, into);
            }
        }
        Value::String(text) => drop(into.insert(key.into(), text.clone())),
        other => drop(into.insert(key.into(), other.to_string())),
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    #[test]
    fn recipes_differ_key_by_key() {
        let of =
            |rest: &str| Recipe::parse(&format!("version = 1\n[terrain]\n{rest}"), Path::new(".")).unwrap();
        let first =
            of("dem = [\"north_dem.tif\"]\nmend_spikes = true\n[network]\nthreshold = { cells = 500 }\n\
            [[derived]]\nname = \"wet\"\nformula = \"slope\"\n");
        let second = of(
            "dem = [\"south_dem.tif\"]\n[conditioning]\nwalls = \"w.gpkg\"\n[network]\nthreshold = { cells = 900 }\n\
            [[derived]]\nname = \"wet\"\nformula = \"slope * 2\"\n",
        );
        let found = difference(&first, &second).unwrap();
        let told: Vec<String> = found
            .iter()
            .map(|d| {
                format!(
                    "{}: {} | {}",
                    d.key,
                    d.first.as_deref().unwrap_or("-"),
                    d.second.as_deref().unwrap_or("-")
                )
            })
            .collect();
        assert_eq!(
            told,
            [
                "conditioning.sinks: - | fill",
                "conditioning.walls: - | a file",
                "derived wet.formula: slope | slope * 2",
                "network.threshold.cells: 500 | 900",
                "terrain.mend_spikes: true | -",
            ]
        );
        assert!(difference(&first, &first).unwrap().is_empty());
    }
}
