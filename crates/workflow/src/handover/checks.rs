//! What is wrong with a model scheme, before it is handed over.

use bothros_core::scheme::{Flaw, Scheme, flaws};
use bothros_products::Sourced;

use super::scheme::Parts;

/// Something that is wrong with a scheme, with its place.
#[derive(Debug, Clone, PartialEq)]
pub struct Issue {
    /// whether nothing can be handed out that has it
    pub is_error: bool,
    /// what is wrong, in one sentence
    pub text: String,
    /// where, in the study's CRS
    pub at: Option<[f64; 2]>,
    /// whether it is about typed values of elements that are gone, which can be forgotten
    pub lost: bool,
}

impl Issue {
    pub(super) fn warning(text: String, at: Option<[f64; 2]>) -> Self {
        Self { is_error: false, text, at, lost: false }
    }
}

/// Parameters that are checked.
pub(super) struct Values<'a> {
    pub tc_h: &'a [Sourced],
    pub curve_numbers: &'a [Sourced],
    pub pools: &'a [(Option<String>, Option<f64>, Option<f64>)],
}

/// What is wrong with a scheme, errors first.
pub(super) fn issues(scheme: &Scheme, parts: &Parts<'_>, values: &Values<'_>, alone: bool) -> Vec<Issue> {
    let frame = &parts.grids.frame;
    let centre = |cell: u32| {
        let (x, y) = frame.centre(parts.grids.directions.cell(cell as usize));
        [x, y]
    };
    let basins = &parts.subbasins.basins;
    let outlet =
        |id: u32| basins.outlets.get(id as usize - 1).map(|&cell| <[f64; 2]>::from(frame.centre(cell)));
    let nexus = |id: u32| scheme.nexuses.iter().find(|n| n.id == id).map(|n| centre(n.cell));
    let flowpath = |id: u32| {
        let of = scheme.flowpaths.iter().find(|f| f.id == id);
        of.and_then(|f| f.cells.get(f.cells.len() / 2)).map(|&cell| centre(cell))
    };
    let place = |flaw: &Flaw| match flaw {
        Flaw::Cycle { nexus: n } | Flaw::SeveralWays { nexus: n, .. } | Flaw::Orphan { nexus: n } => {
            nexus(*n)
        }
        Flaw::NoSuchNexus { subbasin: Some(id), .. } => outlet(*id),
        Flaw::NoSuchNexus { flowpath: id, .. } => flowpath(id.unwrap_or_default()),
        Flaw::NoSuchSubbasin { flowpath: id, .. } | Flaw::Flat { flowpath: id, .. } => flowpath(*id),
        Flaw::Twice { .. } => None,
    };
    let mut found = told_flaws(flaws(scheme), &place);
    let mut warn = |text: String, at: Option<[f64; 2]>| found.push(Issue::warning(text, at));
    // Of many of a kind the first is told, and how many they are.
    let wrong = |which: &dyn Fn(usize) -> bool| -> Vec<u32> {
        (0..scheme.subbasins.len()).filter(|&at| which(at)).map(|at| at as u32 + 1).collect()
    };
    let off = wrong(&|at| basins.found.own_cells[at] != scheme.subbasins[at].cells);
    if let Some(&first) = off.first() {
        warn(format!("the areas of {} sub-basins are not those of their cells", off.len()), outlet(first));
    }
    let still = wrong(&|at| values.tc_h[at].0.is_none());
    if let Some(&first) = still.first() {
        let many = if still.len() == 1 { "sub-basin has" } else { "sub-basins have" };
        let text = format!("{} {many} no time of concentration, as they do not fall", still.len());
        warn(text, outlet(first));
    }
    let unknown = wrong(&|at| values.curve_numbers[at].0.is_none());
    if let Some(&first) = unknown.first() {
        let text = format!("{} of {} sub-basins have no curve number", unknown.len(), scheme.subbasins.len());
        warn(text, outlet(first));
    }
    let named: Vec<(u32, &String)> =
        (1..).zip(parts.points).filter_map(|(id, name)| Some((id, name.as_ref()?))).collect();
    let station = |id: u32| scheme.nexuses.iter().find(|n| n.point == Some(id)).map(|n| centre(n.cell));
    let odd: Vec<&(u32, &String)> = named.iter().filter(|(_, name)| !is_portable(name)).collect();
    if let Some((id, name)) = odd.first() {
        let more = match odd.len() {
            1 => String::new(),
            n => format!(", as do {} more", n - 1),
        };
        let text = format!(
            "the name “{name}” holds more than every model reads{more}: letters and digits without accents, spaces, _, - and ., at most {NAME} of them"
        );
        found.push(Issue::warning(text, station(*id)));
    }
    let twice = named.iter().enumerate().find(|(at, (_, name))| named[..*at].iter().any(|(_, n)| n == name));
    if let Some((_, (id, name))) = twice {
        found.push(Issue::warning(format!("more than one station is called “{name}”"), station(*id)));
    }
    for (r, (_, _, width)) in parts.reservoirs.iter().zip(values.pools) {
        let (name, outlet) = (&r.name, r.outlet);
        let at = Some(<[f64; 2]>::from(frame.centre(outlet)));
        if !basins.outlets.contains(&outlet) {
            let text = format!("{name} holds no water back in the model: place a pour point at the dam");
            found.push(Issue::warning(text, at));
        } else if width.is_none() {
            let text = format!("{name} has no width of its spillway: it passes water on as it comes");
            found.push(Issue::warning(text, at));
        }
    }
    // A catchment that is handed out alone ends where others begin, not at the edge of the DEM.
    let cut: Vec<u32> = if alone {
        Vec::new()
    } else {
        (1..).zip(&basins.found.touches_edge).filter(|(_, cut)| **cut).map(|(id, _)| id).collect()
    };
    if let Some(&first) = cut.first() {
        let text = format!("water of {} sub-basins may be cut short by the edge of the DEM", cut.len());
        found.push(Issue::warning(text, outlet(first)));
    }
    found.sort_by_key(|issue| !issue.is_error);
    found
}

/// Characters of a name that every model reads (common practice, no source).
const NAME: usize = 40;

/// Whether a name has only what every model reads.
fn is_portable(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || " _-.".contains(c);
    !name.trim().is_empty() && name.len() <= NAME && name.chars().all(plain)
}

/// Flowpaths that do not fall that are told each for itself.
const FEW: usize = 5;

/// Flaws with their places; of flowpaths that do not fall a few, and how many more there are.
fn told_flaws(all: Vec<Flaw>, place: &dyn Fn(&Flaw) -> Option<[f64; 2]>) -> Vec<Issue> {
    let flat = all.iter().filter(|f| matches!(f, Flaw::Flat { .. })).count();
    let mut before = 0;
    let mut found = Vec::new();
    for flaw in all {
        before += usize::from(matches!(flaw, Flaw::Flat { .. }));
        if !matches!(flaw, Flaw::Flat { .. }) || before <= FEW {
            let text = flaw.to_string();
            found.push(Issue { is_error: flaw.is_error(), ..Issue::warning(text, place(&flaw)) });
        }
    }
    match flat.saturating_sub(FEW) {
        0 => {}
        1 => found.push(Issue::warning("1 more flowpath does not fall".into(), None)),
        more => found.push(Issue::warning(format!("{more} more flowpaths do not fall"), None)),
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_not_every_model_reads_are_told_from_others() {
        for good in ["Mill", "Heron Bridge", "gauge_12-a.b"] {
            assert!(is_portable(good), "{good}");
        }
        for bad in ["", "  ", "Größe", "堰", "a/b", "a,b", &"x".repeat(41)] {
            assert!(!is_portable(bad), "{bad}");
        }
    }

    #[test]
    fn of_many_flowpaths_that_do_not_fall_a_few_are_told_and_the_rest_is_counted() {
        let flat = |flowpath: u32| Flaw::Flat { flowpath, drop_m: 0.0 };
        let mut all: Vec<Flaw> = (1..=12).map(flat).collect();
        all.push(Flaw::Cycle { nexus: 3 });
        let told = told_flaws(all, &|_| Some([1.0, 2.0]));
        assert_eq!(told.len(), FEW + 2);
        assert!(told[FEW].is_error && told[FEW].at == Some([1.0, 2.0]));
        assert_eq!(told[FEW + 1].text, "7 more flowpaths do not fall");
    }
}
