//! What formulas of a study can name.

use std::collections::BTreeSet;

use bothros_core::formula::{Checked, Error as Wrong, Formula, Named, Unit};
use bothros_products::named::{NAMED, Needs, STREAMS, identifier};
use bothros_store::{LayerRole, Store};

use crate::{Facts, Result, ValueRaster, boxed};

/// Where the cells of a name come from.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Origin {
    /// a raster of every study
    Study,
    /// a raster that was given
    Given(Box<ValueRaster>),
    /// a formula that is kept
    Formula(String),
    /// the lines of the network
    Streams,
    /// layers of a role, with their numbers and versions
    Layers(LayerRole, String),
}

/// The layers of a study in one role.
struct OfRole {
    role: LayerRole,
    /// their numbers and versions
    keys: String,
    /// the fields whose numbers their features have
    fields: BTreeSet<String>,
}

/// A name that formulas can say.
#[derive(Debug, Clone, PartialEq)]
pub struct KnownName {
    /// as formulas say it
    pub name: String,
    /// what it stands for
    pub kind: Named,
    /// in words
    pub meaning: String,
    pub(super) origin: Origin,
}

/// All names of a study.
#[derive(Debug, Clone)]
pub struct Names {
    /// in the order in which they are offered
    pub all: Vec<KnownName>,
}

impl Names {
    /// What formulas of a study can name as it is now: more once flow is routed, and once there is a network.
    ///
    /// # Errors
    /// Those of the store.
    #[boxed]
    pub async fn of(store: &Store, facts: &Facts) -> Result<Self> {
        let mut layers: Vec<OfRole> = Vec::new();
        for layer in store.layers(facts.study).await? {
            let key = format!("{}:{} ", layer.id, layer.version);
            let own = layer.provenance["fields"].as_array().into_iter().flatten();
            let own = own.filter_map(|name| Some(identifier(name.as_str()?)));
            match layers.iter_mut().find(|known| known.role == layer.role) {
                Some(known) => {
                    known.keys.push_str(&key);
                    known.fields.extend(own);
                }
                None => layers.push(OfRole { role: layer.role, keys: key, fields: own.collect() }),
            }
        }
        Ok(Self::from(facts, layers))
    }

    fn from(facts: &Facts, layers: Vec<OfRole>) -> Self {
        let there = |needs: Needs| match needs {
            Needs::Ground => facts.terrain.is_some(),
            Needs::Flow => facts.routing.is_some(),
            Needs::Network => facts.routing.is_some() && facts.network.is_some(),
        };
        let raster = |name: &str, unit: Unit, meaning: &str, origin| KnownName {
            name: name.to_owned(),
            kind: Named::Raster(unit),
            meaning: meaning.to_owned(),
            origin,
        };
        let mut all: Vec<KnownName> = NAMED
            .iter()
            .filter(|n| there(n.needs))
            .map(|n| raster(n.name, n.unit(), n.meaning, Origin::Study))
            .collect();
        for given in &facts.settings.rasters {
            // What was given is read once flow is routed, as everywhere else.
            if !there(Needs::Flow) && given.formula.is_none() {
                continue;
            }
            let unit = Unit::read(&given.unit);
            all.push(match &given.formula {
                Some(formula) => raster(&given.name, unit, formula, Origin::Formula(formula.clone())),
                None => {
                    let meaning = format!("{}, from {}", given.name, given.file);
                    raster(&identifier(&given.name), unit, &meaning, Origin::Given(Box::new(given.clone())))
                }
            });
        }
        let layer = |name: &str, (unit, fields), meaning: &str, origin| KnownName {
            name: name.to_owned(),
            kind: Named::Layer { unit, fields },
            meaning: format!("layer: {meaning}"),
            origin,
        };
        if there(Needs::Network) {
            all.push(layer(STREAMS, (None, Vec::new()), "the lines of the network", Origin::Streams));
        }
        for OfRole { role, keys, fields } in layers {
            let unit = role.has_elevation().then(|| Unit::of("m", 1));
            let mut meaning = role.title().to_lowercase();
            let fields: Vec<String> = fields.into_iter().collect();
            if !fields.is_empty() {
                meaning += &format!("; numbers by their fields, as in value({}, {})", role.name(), fields[0]);
            }
            all.push(layer(role.name(), (unit, fields), &meaning, Origin::Layers(role, keys)));
        }
        // A name that two things share is the first one's.
        let mut seen = BTreeSet::new();
        all.retain(|known| seen.insert(known.name.clone()));
        Self { all }
    }

    /// What a name stands for.
    pub fn known(&self, name: &str) -> Option<Named> {
        self.find(name).map(|known| known.kind.clone())
    }

    pub(super) fn find(&self, name: &str) -> Option<&KnownName> {
        self.all.iter().find(|known| known.name == name)
    }

    /// Reads a formula and checks it against the names.
    ///
    /// # Errors
    /// What is wrong with it, and where.
    pub fn check(&self, formula: &str) -> std::result::Result<Checked, Wrong> {
        Formula::read(formula)?.check(&|name| self.known(name))
    }

    /// Names that a formula needs, those of formulas that it names included; itself, where they lead in a circle, too.
    pub(super) fn reached(&self, formula: &str) -> BTreeSet<String> {
        let mut reached = BTreeSet::new();
        let mut open = vec![formula.to_owned()];
        while let Some(text) = open.pop() {
            let Ok(read) = Formula::read(&text) else { continue };
            for name in read.names().into_iter().chain(read.layers()) {
                if !reached.insert(name.to_owned()) {
                    continue;
                }
                if let Some(KnownName { origin: Origin::Formula(more), .. }) = self.find(name) {
                    open.push(more.clone());
                }
            }
        }
        reached
    }
}
