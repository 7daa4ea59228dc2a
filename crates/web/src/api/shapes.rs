//! Shapes: whether they meet a box, and the box around them.

use bothros_formats::Geometry;

/// A box: least x, least y, greatest x, greatest y.
pub type Bounds = [f64; 4];

/// Whether two boxes have a place in common.
pub fn near(a: &Bounds, b: &Bounds) -> bool {
    a[0] <= b[2] && a[2] >= b[0] && a[1] <= b[3] && a[3] >= b[1]
}

fn holds(b: &Bounds, [x, y]: [f64; 2]) -> bool {
    x >= b[0] && x <= b[2] && y >= b[1] && y <= b[3]
}

/// Whether a segment meets a box: what is left of it, cut by one side after the other (Liang and Barsky 1984).
fn segment_meets(b: &Bounds, p: [f64; 2], q: [f64; 2]) -> bool {
    let (mut from, mut to) = (0.0f64, 1.0f64);
    for axis in 0..2 {
        let d = q[axis] - p[axis];
        let (low, high) = (b[axis] - p[axis], b[axis + 2] - p[axis]);
        if d == 0.0 {
            if low > 0.0 || high < 0.0 {
                return false;
            }
        } else {
            let (a, c) = if d > 0.0 { (low / d, high / d) } else { (high / d, low / d) };
            from = from.max(a);
            to = to.min(c);
        }
    }
    from <= to
}

fn line_meets(b: &Bounds, line: &[[f64; 2]]) -> bool {
    line.windows(2).any(|w| segment_meets(b, w[0], w[1])) || line.first().is_some_and(|&p| holds(b, p))
}

/// Whether a place lies inside rings, by the number of times a way out crosses them.
fn inside(rings: &[Vec<[f64; 2]>], [x, y]: [f64; 2]) -> bool {
    let crossed = |w: &[[f64; 2]]| {
        let (p, q) = (w[0], w[1]);
        (p[1] > y) != (q[1] > y) && x < (q[0] - p[0]) * (y - p[1]) / (q[1] - p[1]) + p[0]
    };
    rings.iter().flat_map(|ring| ring.windows(2)).filter(|w| crossed(w)).count() % 2 == 1
}

/// Whether a shape and a box have a place in common.
pub fn meets(shape: &Geometry, b: &Bounds) -> bool {
    match shape {
        Geometry::Point(at) => holds(b, *at),
        Geometry::Line(line) => line_meets(b, line),
        Geometry::Polygons(all) => all
            .iter()
            .any(|rings| rings.iter().any(|ring| line_meets(b, ring)) || inside(rings, [b[0], b[1]])),
    }
}

/// The least box around a shape.
pub fn bounds(shape: &Geometry) -> Bounds {
    let none = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    let with = |b: Bounds, &[x, y]: &[f64; 2]| [b[0].min(x), b[1].min(y), b[2].max(x), b[3].max(y)];
    match shape {
        Geometry::Point(at) => with(none, at),
        Geometry::Line(line) => line.iter().fold(none, with),
        Geometry::Polygons(all) => all.iter().flatten().flatten().fold(none, with),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const BOX: Bounds = [0.0, 0.0, 10.0, 10.0];

    fn square(west: f64, south: f64, side: f64) -> Vec<[f64; 2]> {
        let (e, n) = (west + side, south + side);
        vec![[west, south], [e, south], [e, n], [west, n], [west, south]]
    }

    #[rstest]
    #[case(Geometry::Point([10.0, 5.0]), true)]
    #[case(Geometry::Point([10.1, 5.0]), false)]
    #[case(Geometry::Line(vec![[-5.0, 5.0], [15.0, 6.0]]), true)]
    // Past the corner.
    #[case(Geometry::Line(vec![[8.0, 13.0], [13.0, 8.0]]), false)]
    #[case(Geometry::Line(vec![[8.0, 11.0], [11.0, 8.0]]), true)]
    #[case(Geometry::Line(vec![[-1.0, -5.0], [-1.0, 15.0]]), false)]
    #[case(Geometry::Polygons(vec![vec![square(-100.0, -100.0, 300.0)]]), true)]
    // The box lies in the hole.
    #[case(Geometry::Polygons(vec![vec![square(-100.0, -100.0, 300.0), square(-5.0, -5.0, 20.0)]]), false)]
    #[case(Geometry::Polygons(vec![vec![square(4.0, 4.0, 1.0)]]), true)]
    #[case(Geometry::Polygons(vec![vec![square(11.0, 4.0, 5.0)]]), false)]
    fn what_meets_a_box_is_found(#[case] shape: Geometry, #[case] expected: bool) {
        assert_eq!(meets(&shape, &BOX), expected, "{shape:?}");
    }

    #[test]
    fn the_box_around_a_shape_is_the_least() {
        let shape = Geometry::Polygons(vec![vec![square(0.0, 0.0, 4.0), square(1.0, 1.0, 1.0)]]);
        assert_eq!(bounds(&shape), [0.0, 0.0, 4.0, 4.0]);
    }
}
