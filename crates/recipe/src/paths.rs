//! The files that a recipe names.

use std::path::{Component, Path, PathBuf};

use crate::{Align, Error, Recipe, Result};

impl Recipe {
    /// The files that it names, each with its key, as they are written.
    pub fn paths(&self) -> Vec<(&'static str, &Path)> {
        let mut all: Vec<(&'static str, &Path)> = Vec::new();
        all.extend(self.terrain.dem.iter().map(|path| ("terrain.dem", path.as_path())));
        fn one<'a>(key: &'static str, path: Option<&'a PathBuf>) -> Option<(&'static str, &'a Path)> {
            path.map(|path| (key, path.as_path()))
        }
        let align = match &self.terrain.align {
            Some(Align::Raster(path)) => Some(path),
            _ => None,
        };
        let conditioning = self.conditioning.as_ref();
        let rebuild = conditioning.and_then(|c| c.rebuild.as_ref());
        let network = self.network.as_ref();
        let catchments = self.catchments.as_ref();
        let named = [
            one("terrain.clip", self.terrain.clip.as_ref()),
            one("terrain.align", align),
            one("conditioning.rebuild.areas", rebuild.map(|r| &r.areas)),
            one("conditioning.rebuild.points", rebuild.and_then(|r| r.points.as_ref())),
            one("conditioning.rebuild.contours", rebuild.and_then(|r| r.contours.as_ref())),
            one("conditioning.breach_lines", conditioning.and_then(|c| c.breach_lines.as_ref())),
            one("conditioning.walls", conditioning.and_then(|c| c.walls.as_ref())),
            one("conditioning.lakes", conditioning.and_then(|c| c.lakes.as_ref())),
            one("conditioning.burn.streams", conditioning.and_then(|c| c.burn.as_ref()).map(|b| &b.streams)),
            one("routing.weights", self.routing.as_ref().and_then(|r| r.weights.as_ref())),
            one("network.heads", network.and_then(|n| n.heads.as_ref())),
            one("catchments.pour_points", catchments.and_then(|c| c.pour_points.as_ref())),
            one("catchments.lines", catchments.and_then(|c| c.lines.as_ref())),
            one("catchments.sites", catchments.and_then(|c| c.sites.as_ref())),
            one("handover.dams", self.handover.as_ref().and_then(|h| h.dams.as_ref())),
            one("handover.lakes", self.handover.as_ref().and_then(|h| h.lakes.as_ref())),
            one("catchments.boundary", catchments.and_then(|c| c.boundary.as_ref())),
        ];
        all.extend(named.into_iter().flatten());
        let basins = conditioning.into_iter().flat_map(|c| &c.closed_basins.0);
        all.extend(basins.map(|path| ("conditioning.closed_basins", path.as_path())));
        let rasters = catchments.into_iter().flat_map(|c| &c.rasters).filter_map(|r| r.path.as_ref());
        all.extend(rasters.map(|path| ("catchments.rasters.path", path.as_path())));
        let layers = self.layers.iter().flat_map(|layer| &layer.path.0);
        all.extend(layers.map(|path| ("layers.path", path.as_path())));
        all.extend(self.sheets.iter().map(|sheet| ("sheets.template", sheet.template.as_path())));
        all
    }

    /// Refuses paths that leave the folder of the recipe: for recipes that come from elsewhere.
    ///
    /// # Errors
    /// [`Error::Recipe`] with the key.
    pub fn stay_inside(&self) -> Result<()> {
        for (key, path) in self.paths() {
            if !path.components().all(|part| matches!(part, Component::Normal(_) | Component::CurDir)) {
                let what =
                    format!("{} leaves the folder of the recipe: name a file beside it", path.display());
                return Err(Error::key(key, what));
            }
        }
        Ok(())
    }

    /// Refuses what names a file that is not there, before any work begins.
    pub(crate) fn check_files(&self) -> Result<()> {
        for (key, path) in self.paths() {
            // `file.gpkg#layer` names a layer; the name of a raster may hold the sign.
            let full = self.path(path);
            let file = self.path(&crate::inputs::split_layer(path).0);
            if !full.is_file() && !file.is_file() {
                return Err(Error::key(key, format!("there is no file {}", file.display())));
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_stay_beside_the_recipe() {
        let of = |rest: &str| {
            let text = format!("version = 1\n[terrain]\n{rest}\n");
            Recipe::parse(&text, Path::new(".")).unwrap().stay_inside()
        };
        assert!(of("dem = [\"a.tif\", \"tiles/b.tif\", \"./c.tif\"]\nclip = \"area.gpkg#one\"").is_ok());
        for (rest, key) in [
            ("dem = [\"/etc/passwd\"]", "terrain.dem"),
            ("dem = [\"a.tif\"]\nclip = \"../../area.gpkg\"", "terrain.clip"),
            ("dem = [\"a.tif\"]\nalign = \"/vsicurl/elsewhere\"", "terrain.align"),
            ("dem = [\"a.tif\"]\n[routing]\nweights = \"x/../../w.tif\"", "routing.weights"),
            (
                "dem = [\"a.tif\"]\n[catchments]\nrasters = [{ path = \"../r.tif\", name = \"r\" }]\nbasins = true",
                "catchments.rasters",
            ),
            ("dem = [\"a.tif\"]\n[[sheets]]\ntemplate = \"/s.json\"", "sheets.template"),
            (
                "dem = [\"a.tif\"]\n[conditioning]\nclosed_basins = [\"a.gpkg\", \"../b.gpkg\"]",
                "conditioning.closed_basins",
            ),
        ] {
            let told = of(rest).unwrap_err().to_string();
            assert!(told.starts_with(key) && told.contains("leaves the folder"), "{rest}: {told}");
        }
    }
}
