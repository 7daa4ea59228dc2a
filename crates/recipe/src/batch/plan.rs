//! What a batch file says, and the runs that follow from it.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use toml::{Table, Value};

use crate::{Error, Recipe, Result};

/// The most runs of a batch.
pub const MOST_RUNS: usize = 5000;
/// The most values of a key.
const MOST_VALUES: usize = 5000;

/// A batch file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Said {
    version: u32,
    /// the recipe that is run, from the folder of the batch file
    recipe: PathBuf,
    /// one run for each file that this matches, as the DEM
    #[serde(default)]
    each_dem: Option<String>,
    /// keys of the recipe, each with the values that it takes in turn: every combination is a run
    #[serde(default)]
    vary: Table,
    /// runs with keys of their own; each is run with every combination of what varies
    #[serde(default)]
    runs: Vec<Table>,
}

/// What varies between the runs of a batch.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Varied {
    /// keys of the recipe, each with a list of the values that it takes in turn: every combination is a run
    pub keys: Table,
    /// runs with keys of their own, each with every combination of what varies
    pub runs: Vec<Table>,
}

/// A run of a batch.
#[derive(Debug, Clone, PartialEq)]
pub struct PlannedRun {
    /// its name, which is that of its folder
    pub name: String,
    /// keys that are its own, with their values as text
    pub own: Vec<(String, String)>,
    /// what is run
    pub recipe: Recipe,
    /// the recipe as text: the same for the same run
    pub text: String,
}

/// A batch, checked.
#[derive(Debug, Clone, PartialEq)]
pub struct Batch {
    /// the runs in their order
    pub runs: Vec<PlannedRun>,
    /// keys that differ between runs, in the order in which they were said
    pub keys: Vec<String>,
}

/// Puts a value under a key with dots.
fn set(table: &mut Table, key: &str, value: Value) -> Result<()> {
    let mut at = table;
    let mut parts = key.split('.').peekable();
    while let Some(part) = parts.next() {
        if part.is_empty() {
            return Err(Error::key(key, "is no key of a recipe"));
        }
        if parts.peek().is_none() {
            at.insert(part.to_owned(), value);
            return Ok(());
        }
        let next = at.entry(part).or_insert_with(|| Value::Table(Table::new()));
        at = next.as_table_mut().ok_or_else(|| Error::key(key, format!("{part} holds no keys")))?;
    }
    Ok(())
}

/// A value in a few letters.
fn short(value: &Value) -> String {
    match value {
        Value::String(text) => {
            let path = Path::new(text);
            path.file_stem().map_or_else(|| text.clone(), |stem| stem.to_string_lossy().into_owned())
        }
        Value::Array(all) => all.iter().map(short).collect::<Vec<_>>().join("+"),
        Value::Table(table) => {
            table.iter().map(|(k, v)| format!("{k} {}", short(v))).collect::<Vec<_>>().join(" ")
        }
        other => other.to_string(),
    }
}

/// Letters that every file system takes.
fn slug(text: &str) -> String {
    let kept: String =
        text.chars().map(|c| if c.is_ascii_alphanumeric() || c == '.' { c } else { '-' }).collect();
    let kept = kept.split('-').filter(|part| !part.is_empty()).collect::<Vec<_>>().join("-");
    kept.chars().take(60).collect::<String>().trim_matches(['-', '.']).to_lowercase()
}

/// Values of a key as a batch file lists them.
fn values(key: &str, value: &Value) -> Result<Vec<Value>> {
    let all = value.as_array().ok_or_else(|| Error::key(&format!("vary.{key}"), "takes a list of values"))?;
    if all.is_empty() || all.len() > MOST_VALUES {
        return Err(Error::key(&format!("vary.{key}"), format!("takes from 1 to {MOST_VALUES} values")));
    }
    // A DEM is a list of files; one alone is a list of one.
    let of = |value: &Value| match (key, value) {
        ("terrain.dem", Value::String(_)) => Value::Array(vec![value.clone()]),
        _ => value.clone(),
    };
    Ok(all.iter().map(of).collect())
}

/// DEMs that a pattern matches, each a list of one file.
fn matched(folder: &Path, pattern: &str) -> Result<Vec<Value>> {
    let list = |path: PathBuf| Value::Array(vec![Value::String(path.to_string_lossy().into_owned())]);
    let files = crate::recipe::matched("each_dem", folder, pattern)?;
    Ok(files.into_iter().map(list).collect())
}

impl Batch {
    /// Reads a batch file, its recipe, and all runs that follow from it; each is checked before any is run.
    ///
    /// # Errors
    /// [`Error::Recipe`] with the key, or the run, that is wrong.
    pub fn read(path: &Path) -> Result<Self> {
        let name = path.display();
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned();
        let read = |path: &Path| {
            std::fs::read_to_string(path).map_err(|e| match e.kind() {
                std::io::ErrorKind::NotFound => Error::Recipe(format!("{} is not there", path.display())),
                std::io::ErrorKind::InvalidData => Error::Recipe(format!(
                    "{} is no text file; batches and recipes are written in TOML",
                    path.display()
                )),
                _ => Error::Recipe(format!("{}: {e}", path.display())),
            })
        };
        let text = read(path)?;
        let said: Said = toml::from_str(&text)
            .map_err(|e| Error::Recipe(format!("{name}: {}", crate::recipe::in_one_line(&e, &text))))?;
        if said.version != 1 {
            let what = format!("is {}: this version of Bothros knows version 1 of batches", said.version);
            return Err(Error::key("version", what));
        }
        let recipe_path = folder.join(&said.recipe);
        let recipe = read(&recipe_path)?;
        // The recipe's own faults are told first.
        let recipe_folder = recipe_path.parent().unwrap_or(Path::new(".")).to_owned();
        let in_recipe = |e: Error| match e {
            Error::Recipe(what) => Error::Recipe(format!("{}: {what}", recipe_path.display())),
            other => other,
        };
        let table: Table = toml::from_str(&recipe)
            .map_err(|e| in_recipe(Error::Recipe(crate::recipe::in_one_line(&e, &recipe))))?;
        Self::of(&said, &table, &folder, &recipe_folder)
    }

    /// The runs that follow from a recipe and what varies in it; paths are relative to `folder`.
    ///
    /// # Errors
    /// [`Error::Recipe`] with the key, or the run, that is wrong.
    pub fn varied(recipe: &str, varied: Varied, folder: &Path) -> Result<Self> {
        let table: Table =
            toml::from_str(recipe).map_err(|e| Error::Recipe(crate::recipe::in_one_line(&e, recipe)))?;
        let (vary, runs) = (varied.keys, varied.runs);
        let said = Said { version: 1, recipe: PathBuf::new(), each_dem: None, vary, runs };
        Self::of(&said, &table, folder, folder)
    }

    fn of(said: &Said, recipe: &Table, folder: &Path, recipe_folder: &Path) -> Result<Self> {
        let mut axes: Vec<(String, Vec<Value>)> = Vec::new();
        if let Some(pattern) = &said.each_dem {
            let mut files = matched(folder, pattern)?;
            // Paths of a recipe are relative to it.
            for file in files.iter_mut().filter_map(Value::as_array_mut).flatten() {
                if let Value::String(path) = file {
                    let full =
                        std::path::absolute(folder.join(&*path)).unwrap_or_else(|_| folder.join(&*path));
                    *path = full.to_string_lossy().into_owned();
                }
            }
            axes.push(("terrain.dem".into(), files));
        }
        for (key, value) in &said.vary {
            axes.push((key.clone(), values(key, value)?));
        }
        let combined = axes.iter().try_fold(1usize, |n, (_, all)| n.checked_mul(all.len()));
        let count = combined.and_then(|n| n.checked_mul(said.runs.len().max(1))).unwrap_or(usize::MAX);
        if count > MOST_RUNS {
            let told =
                if count == usize::MAX { "more than can be counted".to_owned() } else { count.to_string() };
            return Err(Error::Recipe(format!(
                "the batch has {told} runs; {MOST_RUNS} are the most: split it"
            )));
        }
        if axes.is_empty() && said.runs.is_empty() {
            return Err(Error::Recipe("nothing varies: say each_dem, vary or runs".into()));
        }
        let mut keys: Vec<String> = axes.iter().map(|(key, _)| key.clone()).collect();
        let mut runs: Vec<PlannedRun> = Vec::new();
        let alone = [Table::new()];
        for run in if said.runs.is_empty() { &alone[..] } else { &said.runs[..] } {
            let given = match run.get("name") {
                None => None,
                Some(Value::String(name)) if !slug(name).is_empty() => Some(slug(name)),
                Some(_) => return Err(Error::key("runs.name", "takes letters and digits")),
            };
            let own: Vec<(&String, &Value)> = run.iter().filter(|(key, _)| *key != "name").collect();
            for (key, _) in &own {
                if axes.iter().any(|(other, _)| other == *key) {
                    return Err(Error::key(&format!("runs.{key}"), "varies already"));
                }
                if !keys.contains(key) {
                    keys.push((*key).clone());
                }
            }
            let each = axes.iter().map(|(_, all)| all.len()).product::<usize>();
            for at in 0..each {
                let mut place = at;
                let mut chosen: Vec<(String, Value)> = Vec::new();
                // The last key turns fastest.
                for (key, all) in axes.iter().rev() {
                    chosen.push((key.clone(), all[place % all.len()].clone()));
                    place /= all.len();
                }
                chosen.reverse();
                chosen.extend(own.iter().map(|(key, value)| ((*key).clone(), (*value).clone())));
                let mut table = recipe.clone();
                for (key, value) in &chosen {
                    set(&mut table, key, value.clone())?;
                }
                let number = runs.len() + 1;
                let varied = if given.is_some() { &chosen[..axes.len()] } else { &chosen[..] };
                let parts = given.iter().cloned().chain(varied.iter().map(|(_, value)| slug(&short(value))));
                let name = parts.filter(|part| !part.is_empty()).collect::<Vec<_>>().join("_");
                let name = format!("{number:04}_{}", name.chars().take(80).collect::<String>());
                let name = name.trim_end_matches(['_', '.', '-']).to_owned();
                let text = toml::to_string(&table).map_err(|e| Error::Recipe(e.to_string()))?;
                let recipe = Recipe::parse(&text, recipe_folder).map_err(|e| match e {
                    Error::Recipe(what) => Error::Recipe(format!("run {name}: {what}")),
                    other => other,
                })?;
                // Of a whole table the DEM tells enough.
                let told = |key: &str, value: &Value| match (key, value.get("dem")) {
                    ("terrain", Some(dem)) => short(dem),
                    _ => short(value),
                };
                let own = chosen.iter().map(|(key, value)| (key.clone(), told(key, value))).collect();
                runs.push(PlannedRun { name, own, recipe, text });
            }
        }
        Ok(Self { runs, keys })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RECIPE: &str =
        "version = 1\n[terrain]\ndem = [\"a.tif\"]\n[network]\nthreshold = { cells = 100 }\n";

    fn batch(said: &str) -> Result<Batch> {
        let said: Said = toml::from_str(said).unwrap();
        Batch::of(&said, &toml::from_str(RECIPE).unwrap(), Path::new("."), Path::new("."))
    }

    #[test]
    fn every_combination_is_a_run() {
        let found = batch(
            "version = 1\nrecipe = \"r.toml\"\n[vary]\n\"terrain.dem\" = [\"x/north.tif\", [\"s.tif\", \"t.tif\"]]\n\
             \"network.threshold\" = [{ cells = 50 }, { area_km2 = 0.5 }]\n\"routing.method\" = [\"d8\", \"dinf\"]\n",
        )
        .unwrap();
        let names: Vec<&str> = found.runs.iter().map(|r| r.name.as_str()).collect();
        assert_eq!(found.runs.len(), 8);
        assert_eq!(names[0], "0001_cells-50_d8_north");
        assert_eq!(found.keys, ["network.threshold", "routing.method", "terrain.dem"]);
        let last = &found.runs[7].recipe;
        assert_eq!(last.terrain.dem, [PathBuf::from("s.tif"), PathBuf::from("t.tif")]);
        assert_eq!(last.network.as_ref().unwrap().threshold.area_km2, Some(0.5));
        assert_eq!(last.routing.as_ref().unwrap().method, crate::RoutingMethod::Dinf);
        let mut texts: Vec<&str> = found.runs.iter().map(|r| r.text.as_str()).collect();
        texts.sort_unstable();
        texts.dedup();
        assert_eq!(texts.len(), 8);
    }

    #[test]
    fn runs_have_keys_of_their_own() {
        let found = batch(
            "version = 1\nrecipe = \"r\"\n[vary]\n\"network.threshold\" = [{ cells = 1 }, { cells = 2 }]\n[[runs]]\nname = \"The North\"\n\
             \"terrain.dem\" = [\"n.tif\"]\n[[runs]]\n\"routing.method\" = \"mfd\"\n",
        )
        .unwrap();
        let names: Vec<&str> = found.runs.iter().map(|r| r.name.as_str()).collect();
        assert_eq!(
            names,
            ["0001_the-north_cells-1", "0002_the-north_cells-2", "0003_cells-1_mfd", "0004_cells-2_mfd"]
        );
    }

    #[test]
    fn what_is_wrong_is_told() {
        let begin = "version = 1\nrecipe = \"r\"\n";
        let many: String = (1..=101).map(|n| format!("{{ cells = {n} }},")).collect();
        for (said, told) in [
            ("", "nothing varies"),
            ("[vary]\n\"network.threshold\" = 3", "takes a list"),
            ("[vary]\n\"network.threshold\" = []", "from 1 to 5000"),
            ("[vary]\n\"network.treshold\" = [1]", "run 0001_1: "),
            ("[vary]\n\"network..threshold\" = [1]", "no key of a recipe"),
            ("[vary]\n\"terrain.dem.x\" = [1]", "dem holds no keys"),
            ("each_dem = \"nowhere/*.tif\"", "no file matches"),
            ("each_dem = \"***\"", "is no pattern"),
            (
                &format!(
                    "[vary]\n\"network.threshold\" = [{many}]\n\"routing.exponent\" = [{}]",
                    "1.1,".repeat(50)
                ),
                "the batch has 5050 runs; 5000 are the most",
            ),
            (
                "[vary]\n\"terrain.dem\" = [\"a.tif\"]\n[[runs]]\n\"terrain.dem\" = [\"b.tif\"]",
                "varies already",
            ),
            ("[[runs]]\nname = \"///\"", "takes letters and digits"),
        ] {
            let error = batch(&format!("{begin}{said}")).unwrap_err().to_string();
            assert!(error.contains(told), "{said}: {error}");
        }
    }
}
