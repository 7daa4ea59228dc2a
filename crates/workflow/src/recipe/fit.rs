//! A recipe held against the study that is to take it up: what of it does not fit there.

use std::path::Path;

use bothros_core::{Frame, Threshold};
use bothros_formats::{Crs, Geometry, ReadFeature, Wanted, read_features};
use bothros_preparation::{Alignment, Clip, Preparing};
use bothros_recipe::{Align, Recipe, split_layer};
use bothros_store::LayerRole;

use crate::inputs::layers::wanted;
use crate::{Error, Facts, Result, TerrainFacts};

fn data(error: bothros_formats::Error) -> String {
    error.to_string()
}

/// A recipe with the folder of its files.
pub(super) struct At<'a> {
    pub recipe: &'a Recipe,
    pub folder: &'a Path,
    pub terrain: &'a TerrainFacts,
}

/// The layers of a recipe that a study keeps as layers: its key, its role, its path.
pub(super) fn layers(recipe: &Recipe) -> Vec<(&'static str, LayerRole, &Path)> {
    let mut all: Vec<(&'static str, LayerRole, &Path)> = Vec::new();
    for (key, path) in recipe.paths() {
        let role = match key {
            "conditioning.breach_lines" => LayerRole::BreachLines,
            "conditioning.walls" => LayerRole::Walls,
            "conditioning.lakes" => LayerRole::Lakes,
            "conditioning.closed_basins" => LayerRole::ClosedBasins,
            "conditioning.burn.streams" => LayerRole::MappedStreams,
            "conditioning.rebuild.areas" => LayerRole::RebuildAreas,
            "conditioning.rebuild.points" => LayerRole::ElevationPoints,
            "conditioning.rebuild.contours" => LayerRole::ContourLines,
            "network.heads" => LayerRole::ChannelHeads,
            "catchments.lines" | "handover.dams" => LayerRole::Dams,
            // Those that are made level are the study's lakes already.
            "handover.lakes" if recipe.conditioning.as_ref().is_none_or(|c| c.lakes.is_none()) => {
                LayerRole::Lakes
            }
            "catchments.sites" => LayerRole::Sites,
            "catchments.boundary" => LayerRole::Boundaries,
            _ => continue,
        };
        all.push((key, role, path));
    }
    for layer in &recipe.layers {
        let role = LayerRole::from_name(&layer.name);
        // What a table of its own names is not added a second time.
        let Some(role) = role.filter(|role| !all.iter().any(|(_, other, _)| other == role)) else { continue };
        all.extend(layer.path.0.iter().map(|path| ("layers.path", role, path.as_path())));
    }
    all
}

impl At<'_> {
    /// Features of the recipe in a CRS; why there are none.
    pub(super) fn read(
        &self,
        path: &Path,
        wanted: Wanted,
        crs: &Crs,
    ) -> std::result::Result<Vec<ReadFeature>, String> {
        let (file, layer) = split_layer(path);
        let full = self.folder.join(&file);
        if !full.is_file() {
            return Err(format!("{} did not come with the recipe", file.display()));
        }
        let name = file.display().to_string();
        Ok(read_features(&full, &name, layer.as_deref(), wanted, crs).map_err(data)?.features)
    }

    /// How the DEM is prepared, and where it will lie.
    pub(super) fn preparing(
        &self,
        facts: &Facts,
        misfits: &mut Vec<String>,
    ) -> Result<(Preparing, Crs, Frame)> {
        let terrain = &self.recipe.terrain;
        let source = facts.source.as_ref().ok_or_else(Error::not_prepared)?;
        let align = match &terrain.align {
            None => None,
            Some(Align::Grid(grid)) => Some(Alignment {
                name: "the grid that the recipe tells".into(),
                crs: grid.crs.clone(),
                left: grid.left,
                top: grid.top,
                cell_size: grid.cell_size,
            }),
            Some(Align::Raster(path)) => {
                misfits.push(format!(
                    "terrain.align: the grid of {} is not taken up; line up with it in Terrain",
                    path.display()
                ));
                None
            }
        };
        let chosen = terrain.crs.as_ref().or(align.as_ref().map(|a| &a.crs));
        let crs = match chosen {
            Some(definition) => Crs::parse(definition)?,
            None => self.terrain.crs.clone(),
        };
        let clip = match &terrain.clip {
            None => None,
            Some(path) => match self.read(path, Wanted::Polygons, &crs) {
                Ok(features) => {
                    let shapes = features.into_iter().filter_map(|f| match f.shape {
                        Geometry::Polygons(polygons) => Some(polygons),
                        _ => None,
                    });
                    Some(Clip {
                        name: "the recipe’s polygons".into(),
                        polygons: shapes.flatten().collect(),
                        crs: bothros_recipe::definition(&crs),
                        margin_m: terrain.clip_margin_m.unwrap_or(0.0),
                    })
                }
                Err(why) => {
                    misfits.push(format!("terrain.clip: {why}"));
                    None
                }
            },
        };
        // A DEM that had to be warped stays where it was brought to.
        let stays = self.terrain.prepared.crs.clone().filter(|_| align.is_none());
        let mut how = terrain.preparing(&crs, align, clip);
        how.crs = how.crs.or(stays);
        let place = match how.place(&source.as_read()) {
            Ok(place) => place,
            Err(bothros_preparation::Error::Outside { .. }) => {
                misfits.push("terrain.clip: it lies outside this DEM, and is left out".into());
                how.clip = None;
                how.place(&source.as_read())?
            }
            Err(other) => return Err(other.into()),
        };
        let frame = place.clipped();
        Ok((how, place.crs, frame))
    }

    /// What does not fit to a DEM that lies at `frame`.
    pub(super) fn misfits(&self, crs: &Crs, frame: &Frame, misfits: &mut Vec<String>) -> Result<()> {
        let recipe = self.recipe;
        let inside = |[x, y]: [f64; 2]| frame.cell_at(x, y).is_some();
        let touches = |shape: &Geometry| match shape {
            Geometry::Point(at) => inside(*at),
            Geometry::Line(line) => line.iter().any(|at| inside(*at)),
            Geometry::Polygons(all) => all.iter().flatten().flatten().any(|at| inside(*at)),
        };
        let mut told = |key: &str, path: &Path, wanted: Wanted| match self.read(path, wanted, crs) {
            Err(why) => misfits.push(format!("{key}: {why}")),
            Ok(features) => {
                let out = features.iter().filter(|f| !touches(&f.shape)).count();
                if out == features.len() {
                    misfits.push(format!("{key}: all {out} features lie outside this DEM, and are left out"));
                } else if out > 0 {
                    misfits.push(format!(
                        "{key}: {out} of {} features lie outside this DEM, and are left out",
                        features.len()
                    ));
                }
            }
        };
        for (key, role, path) in layers(recipe) {
            told(key, path, wanted(role));
        }
        if let Some(path) = recipe.catchments.as_ref().and_then(|c| c.pour_points.as_ref()) {
            told("catchments.pour_points", path, Wanted::Points);
        }
        if let Some(network) = &recipe.network {
            if let Some(cells) = network.threshold.cells {
                let area = Threshold::cells(cells).as_area(frame).as_km2();
                misfits.push(format!(
                    "network.threshold: {cells} cells are {area:.4} km² at this DEM’s cells of {} m",
                    frame.cell_m()
                ));
            }
            for (at, edit) in network.edits.iter().enumerate() {
                let place = edit.at.map_or_else(|| edit.ring.clone(), |at| vec![at]);
                if !place.into_iter().any(inside) {
                    misfits.push(format!(
                        "network.edits: number {} lies outside this DEM, and is left out",
                        at + 1
                    ));
                }
            }
        }
        if let Some(catchments) = &recipe.catchments {
            let names: Vec<[f64; 2]> = catchments.names.iter().map(|n| n.at).collect();
            for (key, places) in
                [("split", &catchments.split), ("merged", &catchments.merged), ("names", &names)]
            {
                let out = places.iter().filter(|at| !inside(**at)).count();
                if out > 0 {
                    misfits.push(format!(
                        "catchments.{key}: {out} of {} places lie outside this DEM, and are left out",
                        places.len()
                    ));
                }
            }
            for raster in catchments.rasters.iter().filter_map(|r| r.path.as_ref()) {
                if !self.folder.join(raster).is_file() {
                    misfits.push(format!(
                        "catchments.rasters: {} did not come with the recipe",
                        raster.display()
                    ));
                }
            }
            if catchments.basins {
                misfits.push(
                    "catchments.basins: basins of the footprint are a division of sub-basins in a study"
                        .into(),
                );
            }
        }
        if let Some(routing) = &recipe.routing {
            if let Some(path) = routing.weights.as_ref().filter(|path| !self.folder.join(path).is_file()) {
                misfits.push(format!("routing.weights: {} did not come with the recipe", path.display()));
            }
            if routing.exponent.is_some() || routing.flat_slope > 0.0 {
                misfits.push("routing.exponent and flat_slope have no place in a study".into());
            }
        }
        for sheet in recipe.sheets.iter().filter(|sheet| !self.folder.join(&sheet.template).is_file()) {
            misfits.push(format!("sheets: {} did not come with the recipe", sheet.template.display()));
        }
        self.named_misfits(&inside, misfits);
        Ok(())
    }

    /// What of typed values and of layers that formulas name does not fit.
    fn named_misfits(&self, inside: &impl Fn([f64; 2]) -> bool, misfits: &mut Vec<String>) {
        let typed = self.recipe.handover.iter().flat_map(|h| &h.typed);
        let (all, out) = typed.fold((0, 0), |(all, out), v| (all + 1, out + usize::from(!inside(v.at))));
        if out > 0 {
            misfits.push(format!(
                "handover.typed: {out} of {all} values lie outside this DEM, and are left out"
            ));
        }
        for layer in &self.recipe.layers {
            let given: Vec<_> =
                layers(self.recipe).into_iter().filter(|(_, role, _)| role.name() == layer.name).collect();
            match given.first() {
                None => {
                    misfits.push(format!("layers: a study has no layer {}, which formulas name", layer.name))
                }
                Some((key, _, path))
                    if *key != "layers.path"
                        && !layer.fields.is_empty()
                        && !layer.path.0.iter().any(|p| p == path) =>
                {
                    misfits.push(format!(
                        "layers: {} is that of {key}, without the numbers of its fields",
                        layer.name
                    ));
                }
                _ => {}
            }
        }
    }
}
