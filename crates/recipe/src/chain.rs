//! A recipe as a chain: its steps in the order in which they are run, with what goes into each and comes out. Nothing but the
//! recipe is asked.

use std::path::Path;

use bothros_core::catchments::Division;
use bothros_core::network::Begins;

use crate::catchments::{CurveNumber, SnapChoice};
use crate::{Align, BurnMethod, HandoverFormat, Recipe, RoutingMethod, Sinks};

/// A step of a recipe.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChainStep {
    /// the table of the recipe that it is said in
    pub key: &'static str,
    /// what is done
    pub title: &'static str,
    /// files, and results of steps before
    pub takes: Vec<String>,
    /// what is chosen, in words
    pub says: Vec<String>,
    /// results, as files or in words
    pub gives: Vec<String>,
}

fn file(path: &Path) -> String {
    path.file_name().map_or_else(|| path.display().to_string(), |name| name.to_string_lossy().into_owned())
}

fn number(value: f64) -> String {
    format!("{value}")
}

fn list(all: &[&str]) -> Vec<String> {
    all.iter().map(|one| (*one).to_owned()).collect()
}

fn by_hand(changes: usize) -> Option<String> {
    match changes {
        0 => None,
        1 => Some("1 change by hand".into()),
        n => Some(format!("{n} changes by hand")),
    }
}

impl Recipe {
    /// The steps of the recipe, in the order in which they are run.
    pub fn chain(&self) -> Vec<ChainStep> {
        let mut all = vec![self.preparing(), self.treating(), self.routed()];
        all.extend(self.streams());
        if !self.derived.is_empty() {
            all.push(ChainStep {
                key: "derived",
                title: "Rasters from formulas",
                takes: {
                    let own = self.layers.iter().flat_map(|layer| &layer.path.0).map(|path| file(path));
                    list(&["surfaces", "flow"]).into_iter().chain(own).collect()
                },
                says: self.derived.iter().map(|d| format!("{} = {}", d.name, d.formula)).collect(),
                gives: self.derived.iter().map(|d| format!("derived_{}.tif", d.name)).collect(),
            });
        }
        all.extend(self.catchments_found());
        if let Some(handover) = &self.handover {
            let crs = handover
                .crs
                .iter()
                .map(|crs| format!("layers in {}", crs.chars().take(60).collect::<String>()));
            let more = handover.formats.iter().map(|format| match format {
                HandoverFormat::Geojson => "layers as GeoJSON too",
                HandoverFormat::Shapefile => "layers as Shapefiles too",
                HandoverFormat::Netcdf => "rasters as NetCDF too",
            });
            let more = more.map(str::to_owned);
            all.push(ChainStep {
                key: "handover",
                title: "Hand over",
                takes: list(&["network", "catchments"]),
                says: crs.chain(more).collect(),
                gives: list(&["handover.zip"]),
            });
        }
        if self.has_pages() {
            let sheets = self.sheets.iter().map(|sheet| file(&sheet.template));
            let report = self.report.as_ref().map(|_| "the report".to_owned());
            all.push(ChainStep {
                key: if self.report.is_some() { "report" } else { "sheets" },
                title: "Lay out pages",
                takes: sheets.collect(),
                says: Vec::new(),
                gives: report
                    .into_iter()
                    .chain((!self.sheets.is_empty()).then(|| "map sheets".to_owned()))
                    .collect(),
            });
        }
        all
    }

    fn preparing(&self) -> ChainStep {
        let terrain = &self.terrain;
        let mut says = Vec::new();
        if terrain.fit_heights {
            says.push("files fitted to each other in height".into());
        }
        says.extend(terrain.crs.as_ref().map(|crs| format!("warped to {crs}")));
        says.extend(terrain.cell_size.map(|m| format!("cells of {} m", number(m))));
        says.extend(terrain.resampling.map(|how| format!("{how:?} resampling").to_lowercase()));
        says.extend(terrain.vertical_unit.map(|unit| format!("elevations in {unit:?}").to_lowercase()));
        says.extend(terrain.band.map(|band| format!("band {band}")));
        says.extend(terrain.source_crs.as_ref().map(|crs| format!("coordinates read as {crs}")));
        says.extend(terrain.clip_margin_m.map(|m| format!("clipped with {} m around", number(m))));
        for (on, what) in [
            (terrain.mend_spikes, "spikes mended"),
            (terrain.sea_outside, "sea outside"),
            (terrain.mend_voids || terrain.fill_voids, "voids filled from their rim"),
            (terrain.soften_steps, "steps of rounding softened"),
            (terrain.full_rectangle, "cropped to the full rectangle"),
        ] {
            if on {
                says.push(what.into());
            }
        }
        let aligned = match &terrain.align {
            Some(Align::Raster(path)) => Some(path),
            Some(Align::Grid(grid)) => {
                let (left, top) = (number(grid.left), number(grid.top));
                says.push(format!("lined up with cells of {} at {left}, {top}", number(grid.cell_size)));
                None
            }
            None => None,
        };
        let takes = terrain.dem.iter().chain(&terrain.clip).chain(aligned).map(|path| file(path));
        ChainStep {
            key: "terrain",
            title: "Prepare the DEM",
            takes: takes.collect(),
            says,
            gives: list(&["the prepared DEM"]),
        }
    }

    fn treating(&self) -> ChainStep {
        let usual = crate::Conditioning::default();
        let how = self.conditioning.as_ref().unwrap_or(&usual);
        let rebuild = how.rebuild.as_ref();
        let anew = rebuild.map(|r| [Some(&r.areas), r.points.as_ref(), r.contours.as_ref()]);
        let given = [&how.breach_lines, &how.walls, &how.lakes];
        let mut takes = list(&["the prepared DEM"]);
        takes.extend(anew.into_iter().flatten().flatten().map(|path| file(path)));
        takes.extend(given.into_iter().flatten().chain(&how.closed_basins.0).map(|path| file(path)));
        takes.extend(how.burn.as_ref().map(|burn| file(&burn.streams)));
        let mut says = Vec::new();
        says.extend(rebuild.map(|_| "ground made anew inside areas".to_owned()));
        says.push(match (&self.conditioning, how.sinks) {
            (None, _) => "sinks are left as they are".into(),
            (_, Sinks::Fill) => "sinks filled".to_owned(),
            (_, Sinks::Breach) => "sinks breached".into(),
            (_, Sinks::BreachThenFill) => "sinks breached, the others filled".into(),
            (_, Sinks::Keep) => "sinks kept".into(),
        });
        says.extend(how.max_fill_depth_m.map(|m| format!("filled to a depth of {} m at most", number(m))));
        says.extend(how.max_breach_length_m.map(|m| format!("cuts of {} m at most", number(m))));
        says.extend(how.max_breach_depth_m.map(|m| format!("cuts {} m deep at most", number(m))));
        if let Some(burn) = &how.burn {
            let method = match burn.method {
                BurnMethod::Trench => "a trench",
                BurnMethod::Graded => "a graded trench",
                BurnMethod::Normalised => "a normalised DEM",
                BurnMethod::Carve => "carving",
            };
            let depth = burn.depth_m.map_or(String::new(), |m| format!(", {} m deep", number(m)));
            says.push(format!("streams burned by {method}{depth}"));
        }
        ChainStep {
            key: "conditioning",
            title: "Condition",
            takes,
            says,
            gives: list(&["ground.tif", "conditioned.tif"]),
        }
    }

    fn routed(&self) -> ChainStep {
        let usual = crate::Routing::default();
        let how = self.routing.as_ref().unwrap_or(&usual);
        let mut says = vec![match how.method {
            RoutingMethod::D8 => "D8".to_owned(),
            RoutingMethod::Dinf => "D-infinity".into(),
            RoutingMethod::Mfd => "MFD".into(),
        }];
        says.extend(how.exponent.map(|e| format!("exponent {}", number(e))));
        let mut gives = list(&["flow_direction.tif", "flow_accumulation.tif"]);
        gives.extend(how.weights.as_ref().map(|_| "weighted_accumulation.tif".to_owned()));
        let mut takes = list(&["conditioned.tif"]);
        takes.extend(how.weights.as_ref().map(|path| file(path)));
        ChainStep { key: "routing", title: "Route flow", takes, says, gives }
    }

    fn streams(&self) -> Option<ChainStep> {
        let how = self.network.as_ref()?;
        let threshold = match (how.threshold.cells, how.threshold.area_km2) {
            (Some(cells), _) => format!("threshold {cells} cells"),
            (_, area) => format!("threshold {} km²", number(area.unwrap_or_default())),
        };
        let by = match how.begins {
            Begins::Area => None,
            Begins::SlopeArea(_) => Some("streams begin by area and slope".to_owned()),
            Begins::Converging(_) => Some("streams begin by the area of converging land".into()),
            Begins::Surveyed => Some("streams begin at surveyed heads".into()),
        };
        let mut takes = list(&["flow_direction.tif", "flow_accumulation.tif"]);
        takes.extend(how.heads.as_ref().map(|path| file(path)));
        Some(ChainStep {
            key: "network",
            title: "Draw the network",
            takes,
            says: [threshold].into_iter().chain(by).chain(by_hand(how.edits.len())).collect(),
            gives: list(&["streams.tif", "network.gpkg"]),
        })
    }

    fn catchments_found(&self) -> Option<ChainStep> {
        let how = self.catchments.as_ref()?;
        let given = [&how.pour_points, &how.lines, &how.sites, &how.boundary];
        let mut takes = list(&["flow_direction.tif"]);
        takes.extend(given.into_iter().flatten().map(|path| file(path)));
        takes.extend(how.rasters.iter().filter_map(|r| r.path.as_ref()).map(|path| file(path)));
        takes.extend(how.rasters.iter().filter_map(|r| Some(format!("derived_{}.tif", r.derived.as_ref()?))));
        let mut says = Vec::new();
        if how.pour_points.is_some() && how.snap_m > 0.0 {
            let to = match how.snap_to {
                SnapChoice::NearestStream => "the nearest stream",
                _ => "the largest area",
            };
            says.push(format!("pour points snap to {to} within {} m", number(how.snap_m)));
        }
        says.extend(match how.subbasins {
            Some(Division::Reaches) => Some("sub-basins by reaches".to_owned()),
            Some(Division::Tributaries) => Some("sub-basins by tributaries".into()),
            Some(Division::TargetKm2(km2)) => Some(format!("sub-basins of about {} km²", number(km2))),
            _ => None,
        });
        says.extend(by_hand(how.split.len() + how.merged.len()));
        says.extend(match how.names.len() {
            0 => None,
            1 => Some("1 sub-basin named".to_owned()),
            n => Some(format!("{n} sub-basins named")),
        });
        says.extend(match &how.curve_number {
            Some(CurveNumber::One(n)) => Some(format!("curve number {}", number(*n))),
            Some(CurveNumber::Raster(name)) => Some(format!("curve numbers from {name}")),
            None => None,
        });
        Some(ChainStep {
            key: "catchments",
            title: "Delineate and measure",
            takes,
            says,
            gives: list(&["catchments.tif", "catchments.gpkg", "measures.csv"]),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_recipe_is_told_step_by_step() {
        let text = "version = 1\n[terrain]\ndem = [\"in/a.tif\"]\ncell_size = 10.0\n[conditioning]\nbreach_lines = \"lines.gpkg#cuts\"\nsinks = \"breach_then_fill\"\n\
            max_breach_length_m = 100.0\n[routing]\nmethod = \"dinf\"\n[network]\nthreshold = { area_km2 = 0.35 }\n\
            [catchments]\npour_points = \"gauges.csv\"\nsnap_m = 50.0\nrasters = [{ derived = \"wet\", name = \"Wet\" }]\n[[derived]]\nname = \"wet\"\nformula = \"ln(contributing_area)\"\n[handover]\n";
        let chain = Recipe::parse(text, Path::new(".")).unwrap().chain();
        let keys: Vec<&str> = chain.iter().map(|step| step.key).collect();
        assert_eq!(
            keys,
            ["terrain", "conditioning", "routing", "network", "derived", "catchments", "handover"]
        );
        assert_eq!(chain[0].takes, ["a.tif"]);
        assert_eq!(chain[0].says, ["cells of 10 m"]);
        assert_eq!(chain[1].takes, ["the prepared DEM", "lines.gpkg#cuts"]);
        assert_eq!(chain[1].says, ["sinks breached, the others filled", "cuts of 100 m at most"]);
        assert_eq!(chain[3].says, ["threshold 0.35 km²"]);
        assert_eq!(chain[4].gives, ["derived_wet.tif"]);
        assert!(chain[5].takes.contains(&"derived_wet.tif".to_owned()));
        // What is left out is not run.
        let short =
            Recipe::parse("version = 1\n[terrain]\ndem = [\"a.tif\"]\n", Path::new(".")).unwrap().chain();
        let keys: Vec<&str> = short.iter().map(|step| step.key).collect();
        assert_eq!(keys, ["terrain", "conditioning", "routing"]);
        assert_eq!(short[1].says, ["sinks are left as they are"]);
    }
}
