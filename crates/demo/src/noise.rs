//! Smooth random surfaces from a seed.

/// A generator of numbers that depend on nothing but a seed and a place.
#[derive(Debug, Clone, Copy)]
pub struct Noise(pub u64);

impl Noise {
    /// A number from 0 to 1 for a pair of integers: SplitMix64 (Steele, Lea and Flood 2014).
    pub fn at(self, x: i64, y: i64) -> f64 {
        let mut z = self.0
            ^ (x as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15)
            ^ (y as u64).wrapping_mul(0xC2B2_AE3D_27D4_EB4F).rotate_left(31);
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Value noise from -1 to 1 that changes over distances of about 1.
    pub fn smooth(self, x: f64, y: f64) -> f64 {
        let (ix, iy) = (x.floor(), y.floor());
        let ease = |t: f64| t * t * t * (t * (t * 6.0 - 15.0) + 10.0);
        let (tx, ty) = (ease(x - ix), ease(y - iy));
        let corner = |dx: i64, dy: i64| self.at(ix as i64 + dx, iy as i64 + dy);
        let top = corner(0, 0) + (corner(1, 0) - corner(0, 0)) * tx;
        let bottom = corner(0, 1) + (corner(1, 1) - corner(0, 1)) * tx;
        2.0 * (top + (bottom - top) * ty) - 1.0
    }

    /// Noise of several sizes, each half as large and `gain` as strong as the one before.
    pub fn fractal(self, x: f64, y: f64, octaves: u32, gain: f64) -> f64 {
        let (mut sum, mut strength, mut size) = (0.0, 1.0, 1.0);
        for octave in 0..octaves {
            sum += strength * Noise(self.0.wrapping_add(octave as u64 * 7919)).smooth(x * size, y * size);
            strength *= gain;
            size *= 2.0;
        }
        sum
    }

    /// Normally distributed with variance 1, near enough: a sum of twelve.
    pub fn normal(self, x: i64, y: i64) -> f64 {
        (0..12).map(|i| Noise(self.0.wrapping_add(i * 104_729)).at(x, y)).sum::<f64>() - 6.0
    }
}
