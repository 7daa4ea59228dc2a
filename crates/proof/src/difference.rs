//! How the flood of two packages differs.

use bothros_core::scheme::NexusKind;

use crate::{NexusFlow, Proof};

/// The flow at one place in two packages.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PeakDifference<'a> {
    /// the flow in the one
    pub one: &'a NexusFlow,
    /// the flow in the other
    pub other: &'a NexusFlow,
}

impl PeakDifference<'_> {
    /// How much larger the peak of the other is, as a share; none where the one has no peak.
    pub fn share(&self) -> Option<f64> {
        (self.one.peak_m3s > 0.0).then(|| self.other.peak_m3s / self.one.peak_m3s - 1.0)
    }

    /// How much later the peak of the other is, hours.
    pub fn later_h(&self) -> f64 {
        self.other.time_to_peak_h - self.one.time_to_peak_h
    }
}

/// The largest final outlet of a package.
fn largest(proof: &Proof) -> Option<&NexusFlow> {
    let last = proof.nexuses.iter().filter(|n| n.kind == NexusKind::Terminal);
    last.max_by(|a, b| a.area_km2.total_cmp(&b.area_km2))
}

/// The flow where both packages have a nexus of one name, the largest area first; and at the largest final outlets, where these are not
/// among them.
pub fn differences<'a>(one: &'a Proof, other: &'a Proof) -> Vec<PeakDifference<'a>> {
    let named = one.nexuses.iter().filter(|n| n.name.is_some());
    let mut found: Vec<PeakDifference<'a>> = named
        .filter_map(|one| {
            let other = other.nexuses.iter().find(|n| n.name == one.name)?;
            Some(PeakDifference { one, other })
        })
        .collect();
    found.sort_by(|a, b| b.one.area_km2.total_cmp(&a.one.area_km2));
    if let (Some(one), Some(other)) = (largest(one), largest(other))
        && !found.iter().any(|d| d.one.nexus_id == one.nexus_id)
    {
        found.push(PeakDifference { one, other });
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Balance, Settings};

    fn proof(nexuses: &[(u32, NexusKind, Option<&str>, f64, f64)]) -> Proof {
        let flow = |&(nexus_id, kind, name, area_km2, peak_m3s): &(_, _, Option<&str>, _, _)| NexusFlow {
            nexus_id,
            kind,
            name: name.map(str::to_owned),
            area_km2,
            peak_m3s,
            time_to_peak_h: peak_m3s / 2.0,
            volume_m3: 1.0,
            flow_m3s: Vec::new(),
        };
        Proof {
            settings: Settings::default(),
            nexuses: nexuses.iter().map(flow).collect(),
            balance: Balance::default(),
            complaints: Vec::new(),
        }
    }

    #[test]
    fn places_are_found_by_name_and_the_largest_outlet_is_always_there() {
        use NexusKind::{Junction, Station, Terminal};
        let one = proof(&[
            (1, Station, Some("Mill"), 2.0, 4.0),
            (2, Station, Some("Weir"), 5.0, 8.0),
            (3, Junction, None, 6.0, 9.0),
            (4, Terminal, None, 7.0, 10.0),
            (5, Terminal, None, 1.0, 0.0),
        ]);
        let other = proof(&[
            (1, Terminal, None, 7.0, 12.0),
            (2, Station, Some("Weir"), 5.0, 6.0),
            (3, Station, Some("Ford"), 3.0, 5.0),
        ]);
        let found = differences(&one, &other);
        let told: Vec<(u32, u32)> = found.iter().map(|d| (d.one.nexus_id, d.other.nexus_id)).collect();
        assert_eq!(told, [(2, 2), (4, 1)]);
        assert_eq!(found[0].share(), Some(-0.25));
        assert_eq!(found[1].later_h(), 1.0);
        // Without a peak before there is no share.
        let dry = proof(&[(1, Terminal, None, 7.0, 0.0)]);
        assert_eq!(differences(&dry, &other)[0].share(), None);
    }
}
