//! Where a frame lies on the ground: its scale and its middle.

use serde::{Deserialize, Serialize};

use crate::{Error, Rect, Result};

/// Scales that show something of a landscape.
const SCALES: std::ops::RangeInclusive<f64> = 100.0..=1e8;
/// A frame is this wide at least, mm.
const LEAST_MM: f64 = 5.0;

/// What a frame shows: a scale, and the ground in its middle.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct View {
    /// the frame on the page
    pub frame: Rect,
    /// easting in its middle, units of the CRS
    pub x: f64,
    /// northing in its middle, units of the CRS
    pub y: f64,
    /// metres on the ground to a metre on paper
    pub denominator: f64,
    /// metres in a unit of the CRS
    pub unit_m: f64,
}

impl View {
    /// A view that shows west, south, east and north of a box, units of a CRS that are `unit_m` metres long, with a margin on all sides as a share of the frame.
    ///
    /// # Errors
    /// [`Error::FrameTooSmall`]; [`Error::Scale`] where the box is none, or larger than the earth.
    pub fn fitted(
        frame: Rect,
        [west, south, east, north]: [f64; 4],
        unit_m: f64,
        margin: f64,
    ) -> Result<Self> {
        let room = 1.0 - 2.0 * margin.clamp(0.0, 0.45);
        let across = (east - west) / (frame.width / 1000.0 * room);
        let upright = (north - south) / (frame.height / 1000.0 * room);
        let view = Self {
            frame,
            x: (west + east) / 2.0,
            y: (south + north) / 2.0,
            denominator: across.max(upright) * unit_m,
            unit_m,
        };
        view.check()?;
        Ok(view)
    }

    /// Fails where nothing could be seen.
    ///
    /// # Errors
    /// [`Error::FrameTooSmall`], [`Error::Scale`].
    pub fn check(&self) -> Result<()> {
        let (width_mm, height_mm) = (self.frame.width, self.frame.height);
        if !(width_mm >= LEAST_MM && height_mm >= LEAST_MM) {
            return Err(Error::FrameTooSmall { width_mm, height_mm });
        }
        match SCALES.contains(&self.denominator) && self.x.is_finite() && self.y.is_finite() {
            true => Ok(()),
            false => Err(Error::Scale { denominator: self.denominator }),
        }
    }

    /// Metres on the ground to a millimetre on paper.
    pub fn metres_a_mm(&self) -> f64 {
        self.denominator / 1000.0
    }

    /// Units of the CRS to a millimetre on paper.
    pub fn units_a_mm(&self) -> f64 {
        self.metres_a_mm() / self.unit_m
    }

    /// The next scale up that a reader knows: 1, 1.5, 2, 2.5, 3, 4, 5, 6, 7.5 or 8 and noughts; what was fitted stays in the frame.
    pub fn rounded(self) -> Self {
        const STEPS: [f64; 11] = [1.0, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 7.5, 8.0, 10.0];
        let power = 10f64.powf(self.denominator.log10().floor());
        let part = self.denominator / power;
        let step = STEPS.into_iter().find(|s| *s >= part * (1.0 - 1e-9)).unwrap_or(10.0);
        Self { denominator: step * power, ..self }
    }

    /// West, south, east and north of what is shown, units of the CRS.
    pub fn ground(&self) -> [f64; 4] {
        let (w, h) =
            (self.frame.width * self.units_a_mm() / 2.0, self.frame.height * self.units_a_mm() / 2.0);
        [self.x - w, self.y - h, self.x + w, self.y + h]
    }

    /// Where a place on the ground lies on the page, mm.
    pub fn on_paper(&self, [x, y]: [f64; 2]) -> [f64; 2] {
        let middle = [self.frame.x + self.frame.width / 2.0, self.frame.y + self.frame.height / 2.0];
        [middle[0] + (x - self.x) / self.units_a_mm(), middle[1] - (y - self.y) / self.units_a_mm()]
    }

    /// The place on the ground under a place of the page, units of the CRS.
    pub fn on_ground(&self, [x, y]: [f64; 2]) -> [f64; 2] {
        let middle = [self.frame.x + self.frame.width / 2.0, self.frame.y + self.frame.height / 2.0];
        [self.x + (x - middle[0]) * self.units_a_mm(), self.y - (y - middle[1]) * self.units_a_mm()]
    }

    /// The same, moved by so many millimetres of paper, as by a hand that drags the map.
    pub fn dragged(self, [right, down]: [f64; 2]) -> Self {
        Self { x: self.x - right * self.units_a_mm(), y: self.y + down * self.units_a_mm(), ..self }
    }

    /// The same at another scale; the place of the page under `at` stays where it is.
    ///
    /// # Errors
    /// [`Error::Scale`].
    pub fn scaled(self, denominator: f64, at: [f64; 2]) -> Result<Self> {
        let under = self.on_ground(at);
        let then = Self { denominator, ..self };
        then.check()?;
        let now = then.on_ground(at);
        Ok(Self { x: then.x + under[0] - now[0], y: then.y + under[1] - now[1], ..then })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const FRAME: Rect = Rect { x: 20.0, y: 30.0, width: 170.0, height: 200.0 };
    const VIEW: View =
        View { frame: FRAME, x: 500_000.0, y: 4_760_000.0, denominator: 25_000.0, unit_m: 1.0 };

    /// A kilometre at 1:25,000 is four centimetres on paper.
    #[test]
    fn a_known_line_has_its_length_on_paper() {
        let (a, b) = (VIEW.on_paper([500_000.0, 4_760_000.0]), VIEW.on_paper([501_000.0, 4_760_000.0]));
        assert!((b[0] - a[0] - 40.0).abs() < 1e-9 && (b[1] - a[1]).abs() < 1e-9);
        assert_eq!(a, [105.0, 130.0]);
        // North is up.
        assert!(VIEW.on_paper([500_000.0, 4_760_100.0])[1] < a[1]);
    }

    #[test]
    fn a_box_is_fitted_and_its_scale_rounded_up() {
        let view = View::fitted(FRAME, [0.0, 0.0, 4_000.0, 3_000.0], 1.0, 0.05).expect("fits");
        assert!((view.denominator - 4_000.0 / 0.153).abs() < 1e-6, "{view:?}");
        let round = view.rounded();
        assert_eq!(round.denominator, 30_000.0);
        let [west, south, east, north] = round.ground();
        assert!(west < 0.0 && south < 0.0 && east > 4_000.0 && north > 3_000.0);
        assert_eq!(View { denominator: 25_000.0, ..view }.rounded().denominator, 25_000.0);
    }

    #[test]
    fn nothing_is_shown_at_a_scale_of_nothing() {
        for denominator in [0.0, 1.0, -5.0, f64::NAN, 1e12] {
            assert!(View { denominator, ..VIEW }.check().is_err(), "{denominator}");
        }
        assert!(View::fitted(FRAME, [5.0, 5.0, 5.0, 5.0], 1.0, 0.1).is_err());
        assert!(View { frame: Rect { width: 2.0, ..FRAME }, ..VIEW }.check().is_err());
    }

    proptest! {
        #[test]
        fn paper_and_ground_are_each_others_way_back(x in 0.0..400.0f64, y in 0.0..400.0f64, d in 200.0..1e6f64) {
            let view = View { denominator: d, ..VIEW };
            let back = view.on_paper(view.on_ground([x, y]));
            prop_assert!((back[0] - x).abs() < 1e-5 && (back[1] - y).abs() < 1e-5);
        }

        #[test]
        fn what_is_under_the_hand_stays_there(x in 20.0..190.0f64, y in 30.0..230.0f64, d in 200.0..1e6f64) {
            let (before, now) = (VIEW.on_ground([x, y]), VIEW.scaled(d, [x, y]).expect("a scale"));
            let after = now.on_ground([x, y]);
            prop_assert!((before[0] - after[0]).abs() < 1e-5 && (before[1] - after[1]).abs() < 1e-5);
            let moved = VIEW.dragged([10.0, -5.0]).on_paper(before);
            prop_assert!((moved[0] - x - 10.0).abs() < 1e-5 && (moved[1] - y + 5.0).abs() < 1e-5);
        }
    }
}
