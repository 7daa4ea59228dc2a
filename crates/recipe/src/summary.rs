//! summary.json: what was done, in numbers.

use bothros_core::Frame;
use bothros_core::catchments::Agreement;
use bothros_core::conditioning::{CutAndFill, Remark, Step};
use bothros_products::SiteFound;
use serde::Serialize;

/// The reaches of one Strahler order.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct OrderFacts {
    /// Strahler order
    pub order: u8,
    /// number of reaches
    pub reaches: u64,
    /// their length, km
    pub length_km: f64,
}

/// The network in numbers.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct NetworkFacts {
    /// threshold, km²
    pub threshold_km2: f64,
    /// threshold, cells
    pub threshold_cells: u32,
    /// number of reaches
    pub reaches: u64,
    /// number of headwaters
    pub headwaters: u64,
    /// length of all reaches, km
    pub length_km: f64,
    /// length over the area of the footprint, km/km²
    pub drainage_density: f64,
    /// by Strahler order
    pub reaches_by_order: Vec<OrderFacts>,
}

/// A catchment in numbers.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct CatchmentFacts {
    /// from 1
    pub catchment_id: u32,
    /// as given with the pour point
    pub name: Option<String>,
    /// km²
    pub area_km2: f64,
    /// whether it reaches the edge of the footprint
    pub touches_edge: bool,
    /// how far the pour point was moved, metres
    pub moved_m: f64,
}

/// Wall time of a step.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct StepTime {
    /// what was done
    pub step: String,
    /// seconds
    pub seconds: f64,
}

/// What water does at a site.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct SiteFacts {
    /// its number
    pub site_id: u32,
    /// its name
    pub name: Option<String>,
    /// its area within the footprint, km²
    pub area_km2: f64,
    /// all that drains to it from outside, km²
    pub entering_km2: f64,
    /// places where water enters in at least the asked-for area
    pub inflows: usize,
    /// what enters in smaller amounts, km²
    pub spread_km2: f64,
    /// places where water leaves
    pub outflows: usize,
}

impl SiteFacts {
    pub(crate) fn of(found: &SiteFound<'_>, frame: &Frame) -> Self {
        let km2 = |cells: u64| frame.area_of(cells).as_km2();
        let site = found.site;
        Self {
            site_id: found.id,
            name: found.name.map(str::to_owned),
            area_km2: km2(site.own_cells),
            entering_km2: km2(site.entering_cells()),
            inflows: site.inflows.len(),
            spread_km2: km2(site.spread_cells),
            outflows: site.outflows.len(),
        }
    }
}

/// How a catchment agrees with a published boundary.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct BoundaryFacts {
    /// the catchment that overlaps it most
    pub catchment_id: u32,
    /// area of the catchment, km²
    pub catchment_km2: f64,
    /// area within the boundary, km²
    pub published_km2: f64,
    /// area of both over area of either
    pub intersection_over_union: f64,
    /// land that only the catchment holds, km²
    pub only_catchment_km2: f64,
    /// land of the footprint that only the boundary holds, km²
    pub only_boundary_km2: f64,
}

impl BoundaryFacts {
    pub(crate) fn of(catchment_id: u32, found: &Agreement) -> Self {
        let of = |ours: bool| {
            let pieces = found.pieces.iter().filter(move |p| p.only_ours == ours);
            pieces.map(|p| p.outline.area.as_km2()).sum()
        };
        Self {
            catchment_id,
            catchment_km2: found.ours.as_km2(),
            published_km2: found.published.as_km2(),
            intersection_over_union: found.intersection_over_union(),
            only_catchment_km2: of(true),
            only_boundary_km2: of(false),
        }
    }
}

/// Further results beside the catchments.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct MoreFacts {
    pub subbasins: u64,
    pub sites: Option<Vec<SiteFacts>>,
    pub boundary: Option<BoundaryFacts>,
}

/// The sinks before and after conditioning.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct SinkCounts {
    /// sinks that filling would raise
    pub before: u64,
    /// bottoms from which water does not get out any more, closed basins included
    pub after: u64,
    /// of these, closed basins and sinks kept for their depth
    pub kept_open: u64,
}

/// All of summary.json.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Summary {
    /// program and version
    pub program: String,
    /// CRS of all results
    pub crs: String,
    /// rows of the grid
    pub rows: usize,
    /// columns of the grid
    pub cols: usize,
    /// edge of a cell, metres
    pub cell_size_m: f64,
    /// cells with an elevation
    pub cells: u64,
    /// cells without one
    pub nodata_cells: u64,
    /// sinks
    pub sinks: SinkCounts,
    /// ground surface minus the prepared DEM
    pub cut_and_fill: CutAndFill,
    /// routing surface minus the prepared DEM
    pub cut_and_fill_routing: CutAndFill,
    /// steps of conditioning and what each moved
    pub conditioning: Vec<Step>,
    /// what the analyst should know
    pub remarks: Vec<Remark>,
    /// conversions that were made on the way
    pub notes: Vec<String>,
    /// how flow was routed
    pub routing: String,
    /// cells that are outlets at the edge of the footprint
    pub outlets: u64,
    /// largest contributing area, km²
    pub largest_contributing_area_km2: f64,
    /// the network, where one was asked for
    pub network: Option<NetworkFacts>,
    /// catchments, where some were asked for
    pub catchments: Option<Vec<CatchmentFacts>>,
    /// number of sub-basins, where catchments were asked for
    pub subbasins: Option<u64>,
    /// sites, where some were given
    pub sites: Option<Vec<SiteFacts>>,
    /// the comparison with a published boundary, where one was given
    pub boundary: Option<BoundaryFacts>,
    /// wall time of each step
    pub steps: Vec<StepTime>,
    /// wall time of all, seconds
    pub seconds: f64,
    /// highest memory of the process, bytes
    pub peak_memory_bytes: u64,
}

/// Highest memory of this process so far, bytes; 0 where the system does not tell.
pub(crate) fn peak_memory() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|l| l.starts_with("VmHWM:")).unwrap_or("");
    line.split_whitespace().nth(1).and_then(|kb| kb.parse::<u64>().ok()).unwrap_or(0) * 1024
}
