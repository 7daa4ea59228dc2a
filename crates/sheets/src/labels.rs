//! Labels that do not lie over each other: at points, and along lines.

use crate::Rect;

/// What a label belongs to.
#[derive(Debug, Clone, PartialEq)]
pub enum Placing {
    /// beside a place of the page, mm, this far from it
    At {
        /// the place
        point: [f64; 2],
        /// from the place to the nearest edge of the label, mm
        away_mm: f64,
    },
    /// along a line on the page, mm
    Along(Vec<[f64; 2]>),
    /// in the middle of an area that is this place and no other, mm
    Over([f64; 2]),
}

/// A label that is to be placed.
#[derive(Debug, Clone, PartialEq)]
pub struct ToPlace {
    /// what it belongs to
    pub placing: Placing,
    /// width of its text with the halo, mm
    pub width_mm: f64,
    /// height of its text with the halo, mm
    pub height_mm: f64,
    /// which of two is placed first: the one that matters more
    pub matters: f64,
}

/// A rectangle that may be turned.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Spot {
    /// its middle, mm
    pub middle: [f64; 2],
    /// width and height, mm
    pub size: [f64; 2],
    /// clockwise on the page, degrees, from -90 to 90 so that text never stands on its head
    pub turned: f64,
}

/// A label that has a place.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Placed {
    /// its number in the list that was given
    pub label: usize,
    /// where it lies
    pub at: Spot,
}

impl Spot {
    fn corners(&self) -> [[f64; 2]; 4] {
        let (sin, cos) = self.turned.to_radians().sin_cos();
        let [w, h] = self.size.map(|s| s / 2.0);
        [[-w, -h], [w, -h], [w, h], [-w, h]]
            .map(|[x, y]| [self.middle[0] + x * cos - y * sin, self.middle[1] + x * sin + y * cos])
    }

    /// Whether two have a place in common: no line along an edge of either parts them.
    pub fn meets(&self, other: &Self) -> bool {
        let (a, b) = (self.corners(), other.corners());
        let parted_by = |turned: f64| {
            let (sin, cos) = turned.to_radians().sin_cos();
            [[cos, sin], [-sin, cos]].into_iter().any(|axis| {
                let span = |corners: &[[f64; 2]; 4]| {
                    let along = corners.map(|c| c[0] * axis[0] + c[1] * axis[1]);
                    (
                        along.into_iter().fold(f64::INFINITY, f64::min),
                        along.into_iter().fold(f64::NEG_INFINITY, f64::max),
                    )
                };
                let ((a0, a1), (b0, b1)) = (span(&a), span(&b));
                a1 <= b0 || b1 <= a0
            })
        };
        !parted_by(self.turned) && !parted_by(other.turned)
    }

    fn within(&self, frame: &Rect) -> bool {
        self.corners().iter().all(|&[x, y]| {
            x >= frame.x && y >= frame.y && x <= frame.x + frame.width && y <= frame.y + frame.height
        })
    }
}

/// A line may turn this much under a label, as the ratio of the straight way to the way along it.
const STRAIGHT: f64 = 0.94;
/// Places along a line that are tried.
const TRIED: usize = 40;

impl ToPlace {
    /// Where it might lie, the best first.
    fn candidates(&self) -> Vec<Spot> {
        let size = [self.width_mm, self.height_mm];
        match &self.placing {
            Placing::Over(middle) => vec![Spot { middle: *middle, size, turned: 0.0 }],
            Placing::At { point, away_mm } => {
                let (w, h) = (size[0] / 2.0 + away_mm, size[1] / 2.0 + away_mm);
                // Above and to the right is read first. (Common practice.)
                [[w, -h], [-w, -h], [w, h], [-w, h], [w, 0.0], [0.0, -h], [-w, 0.0], [0.0, h]]
                    .map(|[x, y]| Spot { middle: [point[0] + x, point[1] + y], size, turned: 0.0 })
                    .into()
            }
            Placing::Along(line) => self.along(line),
        }
    }

    /// Places along a line where it is straight for as long as the label, those nearest to its middle first.
    fn along(&self, line: &[[f64; 2]]) -> Vec<Spot> {
        let far = |a: [f64; 2], b: [f64; 2]| (b[0] - a[0]).hypot(b[1] - a[1]);
        let mut upto = vec![0.0];
        for two in line.windows(2) {
            upto.push(upto[upto.len() - 1] + far(two[0], two[1]));
        }
        let length = upto[upto.len() - 1];
        if line.len() < 2 || length < self.width_mm {
            return Vec::new();
        }
        let at = |way: f64| {
            let next = upto.partition_point(|&d| d < way).clamp(1, line.len() - 1);
            let share = ((way - upto[next - 1]) / (upto[next] - upto[next - 1]).max(1e-9)).clamp(0.0, 1.0);
            let (a, b) = (line[next - 1], line[next]);
            [a[0] + (b[0] - a[0]) * share, a[1] + (b[1] - a[1]) * share]
        };
        let room = length - self.width_mm;
        let mut begins: Vec<f64> = (0..=TRIED).map(|n| room * n as f64 / TRIED as f64).collect();
        begins.sort_by(|a, b| (a - room / 2.0).abs().total_cmp(&(b - room / 2.0).abs()));
        let mut out = Vec::new();
        for begin in begins {
            let (a, b) = (at(begin), at(begin + self.width_mm));
            if far(a, b) < STRAIGHT * self.width_mm {
                continue;
            }
            let mut turned = (b[1] - a[1]).atan2(b[0] - a[0]).to_degrees();
            if turned > 90.0 {
                turned -= 180.0;
            } else if turned <= -90.0 {
                turned += 180.0;
            }
            let (sin, cos) = turned.to_radians().sin_cos();
            let middle = [(a[0] + b[0]) / 2.0, (a[1] + b[1]) / 2.0];
            // Above the line, else below it.
            for off in [-0.75, 0.75] {
                let off = off * self.height_mm;
                out.push(Spot {
                    middle: [middle[0] - sin * off, middle[1] + cos * off],
                    size: [self.width_mm, self.height_mm],
                    turned,
                });
            }
        }
        out
    }
}

/// Places labels inside a frame so that none lies over another or over what must stay free; those that matter more come first, of equals the first in the list. What finds no
/// place is left out.
pub fn place(labels: &[ToPlace], frame: &Rect, free: &[Rect]) -> Vec<Placed> {
    let flat = |r: &Rect| Spot {
        middle: [r.x + r.width / 2.0, r.y + r.height / 2.0],
        size: [r.width, r.height],
        turned: 0.0,
    };
    let kept: Vec<Spot> = free.iter().map(flat).collect();
    let mut order: Vec<usize> = (0..labels.len()).collect();
    order.sort_by(|&a, &b| labels[b].matters.total_cmp(&labels[a].matters).then(a.cmp(&b)));
    let mut placed: Vec<Placed> = Vec::new();
    for label in order {
        let fits = |at: &Spot| {
            at.within(frame) && !kept.iter().any(|k| k.meets(at)) && !placed.iter().any(|p| p.at.meets(at))
        };
        if let Some(at) = labels[label].candidates().into_iter().find(fits) {
            placed.push(Placed { label, at });
        }
    }
    placed.sort_by_key(|p| p.label);
    placed
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const FRAME: Rect = Rect { x: 0.0, y: 0.0, width: 100.0, height: 80.0 };

    fn at(point: [f64; 2], matters: f64) -> ToPlace {
        ToPlace { placing: Placing::At { point, away_mm: 1.0 }, width_mm: 20.0, height_mm: 4.0, matters }
    }

    #[test]
    fn the_first_place_is_above_and_to_the_right_and_what_matters_more_has_it() {
        let placed = place(&[at([50.0, 40.0], 1.0), at([50.0, 40.0], 2.0)], &FRAME, &[]);
        assert_eq!(placed[1].at.middle, [61.0, 37.0]);
        assert_eq!(placed[0].at.middle, [39.0, 37.0]);
        // In the corner only one place is left.
        let corner = place(&[at([99.0, 1.0], 1.0)], &FRAME, &[]);
        assert_eq!(corner[0].at.middle, [88.0, 4.0]);
        let kept = Rect { x: 51.0, y: 30.0, width: 49.0, height: 9.5 };
        assert_eq!(place(&[at([50.0, 40.0], 1.0)], &FRAME, &[kept])[0].at.middle, [39.0, 37.0]);
    }

    #[test]
    fn a_label_lies_along_its_line_and_never_on_its_head() {
        let along = |line: Vec<[f64; 2]>| {
            let label =
                ToPlace { placing: Placing::Along(line), width_mm: 20.0, height_mm: 4.0, matters: 1.0 };
            place(&[label], &FRAME, &[]).first().map(|p| p.at)
        };
        let west = along(vec![[90.0, 40.0], [10.0, 40.0]]).expect("room");
        assert_eq!((west.middle, west.turned), ([50.0, 37.0], 0.0));
        let steep = along(vec![[20.0, 70.0], [60.0, 10.0]]).expect("room");
        assert!((steep.turned + 56.3).abs() < 0.1, "{steep:?}");
        // Too short, and too crooked.
        assert_eq!(along(vec![[10.0, 40.0], [25.0, 40.0]]), None);
        let zigzag = (0..40).map(|i| [10.0 + 2.0 * f64::from(i), 40.0 + 5.0 * f64::from(i % 2)]).collect();
        assert_eq!(along(zigzag), None);
    }

    #[test]
    fn turned_boxes_meet_where_they_do() {
        let of = |middle, turned| Spot { middle, size: [20.0, 4.0], turned };
        assert!(of([0.0, 0.0], 0.0).meets(&of([0.0, 5.0], 45.0)));
        assert!(!of([0.0, 0.0], 0.0).meets(&of([0.0, 12.0], 45.0)));
        assert!(!of([0.0, 0.0], 30.0).meets(&of([-3.0, 5.5], 30.0)), "side by side along a slope");
    }

    proptest! {
        #[test]
        fn no_label_lies_over_another_or_beyond_the_frame(
            points in prop::collection::vec((0.0..100.0f64, 0.0..80.0f64, 0.0..5.0f64), 0..60),
            lines in prop::collection::vec(prop::collection::vec((0.0..100.0f64, 0.0..80.0f64), 2..6), 0..20),
        ) {
            let mut labels: Vec<ToPlace> = points.into_iter().map(|(x, y, m)| at([x, y], m)).collect();
            labels.extend(lines.into_iter().map(|line| ToPlace {
                placing: Placing::Along(line.into_iter().map(|(x, y)| [x, y]).collect()),
                width_mm: 15.0,
                height_mm: 3.0,
                matters: 3.0,
            }));
            let placed = place(&labels, &FRAME, &[]);
            for (i, a) in placed.iter().enumerate() {
                prop_assert!(a.at.within(&FRAME) && (-90.0..=90.0).contains(&a.at.turned));
                for b in &placed[..i] {
                    prop_assert!(!a.at.meets(&b.at));
                }
            }
        }
    }
}
