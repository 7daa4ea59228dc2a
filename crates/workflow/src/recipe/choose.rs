//! What a recipe chooses, as the choices of a study.

use bothros_core::Frame;
use bothros_core::catchments::{Division, SnapTo};
use bothros_core::network::Edit;
use bothros_core::routing::Method;
use bothros_formats::Crs;
use bothros_recipe::{CurveNumber, HandoverFormat, RoutingMethod, Sinks, SnapChoice};

use super::fit::At;
use crate::{Error, ReportChoice, Result, Settings, StreamEdit};

impl At<'_> {
    /// The choices of the recipe, put into those of a study.
    pub(super) fn choose(&self, frame: &Frame, settings: &mut Settings) -> Result<()> {
        let recipe = self.recipe;
        let inside = |[x, y]: [f64; 2]| frame.cell_at(x, y).is_some();
        let choices = &mut settings.conditioning;
        choices.fill_voids = recipe.terrain.fill_voids;
        let usual = bothros_recipe::Conditioning { sinks: Sinks::Keep, ..Default::default() };
        let how = recipe.conditioning.as_ref().unwrap_or(&usual);
        choices.sinks = how.sinks.into();
        choices.max_fill_depth_m = how.max_fill_depth_m;
        choices.breach_length_m = how.max_breach_length_m;
        choices.breach_depth_m = how.max_breach_depth_m;
        choices.level_lakes = how.lakes.is_some() || choices.level_lakes;
        choices.burn = how.burn.as_ref().map(|burn| burn.method());
        if let Some(rebuild) = &how.rebuild {
            choices.rebuild_own = rebuild.own;
            choices.rebuild_tension = rebuild.tension.unwrap_or(choices.rebuild_tension);
            choices.rebuild_blend_m = rebuild.blend_m.unwrap_or(0.0);
        }
        choices.routing = match recipe.routing.as_ref().map(|r| r.method).unwrap_or_default() {
            RoutingMethod::D8 => Method::D8,
            RoutingMethod::Dinf => Method::DInfinity,
            RoutingMethod::Mfd => Method::Mfd,
        };
        if let Some(network) = &recipe.network {
            settings.beginning.begins = network.begins;
            settings.heads_within_m = network.heads_within_m;
            if let Some(within) = network.heads_within_m {
                settings.beginning.within_m = within;
            }
            settings.edits.clear();
            for edit in &network.edits {
                let read = edit.edit().map_err(|e| Error::Refused(e.to_string()))?;
                let here = match &read {
                    Edit::Prune { at, .. } | Edit::Head { at } => inside(*at),
                    Edit::Within { ring, .. } => ring.iter().any(|at| inside(*at)),
                };
                if here {
                    settings.edits.push(StreamEdit { edit: read, reason: edit.reason.clone() });
                }
            }
        }
        if let Some(catchments) = &recipe.catchments {
            settings.snap_m = catchments.snap_m;
            settings.snap_to = match catchments.snap_to {
                SnapChoice::NearestStream => SnapTo::NearestStream,
                _ => SnapTo::Largest,
            };
            settings.concentration.formula = catchments.time_of_concentration.clone();
            let division = &mut settings.subbasins;
            division.division = catchments.subbasins.unwrap_or(Division::Reaches);
            division.outline = catchments.outline;
            let here = |places: &[[f64; 2]]| places.iter().copied().filter(|at| inside(*at)).collect();
            (division.split, division.merged) = (here(&catchments.split), here(&catchments.merged));
            let named = catchments.names.iter().filter(|n| inside(n.at));
            division.names = named.map(|n| (n.at, n.name.clone())).collect();
            match &catchments.curve_number {
                Some(CurveNumber::One(number)) => settings.concentration.curve_number = Some(*number),
                Some(CurveNumber::Raster(name)) => {
                    settings.concentration.curve_number_raster = Some(name.clone());
                }
                None => {}
            }
        }
        if let Some(handover) = &recipe.handover {
            settings.handover.shapefiles = handover.formats.contains(&HandoverFormat::Shapefile);
            settings.handover.netcdf = handover.formats.contains(&HandoverFormat::Netcdf);
            settings.handover.model = handover.model.clone().unwrap_or_default();
            settings.handover.typed = handover.typed.iter().filter(|v| inside(v.at)).copied().collect();
            settings.handover.crs = handover.crs.as_deref().map(Crs::parse).transpose()?;
        }
        if let Some(report) = &recipe.report {
            settings.handover.report = true;
            settings.report = ReportChoice {
                order: report.order.clone(),
                left_out: report.left_out.clone(),
                own: report.own.clone(),
            };
        }
        settings.handover.sheets |= !recipe.sheets.is_empty();
        Ok(())
    }
}
