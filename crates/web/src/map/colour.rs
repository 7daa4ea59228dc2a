//! Colours of map layers. Ramps are continuous and our own.

/// Red, green, blue.
pub type Rgb = [f32; 3];

const fn rgb(hex: u32) -> Rgb {
    [(hex >> 16) as f32, (hex >> 8 & 0xFF) as f32, (hex & 0xFF) as f32]
}

/// Low ground to high ground: moss, straw, heather, stone.
const TERRAIN: [Rgb; 6] =
    [rgb(0xB9C8A6), rgb(0xD3D7B0), rgb(0xE6DDB9), rgb(0xD9C3A0), rgb(0xC3AA9B), rgb(0xDCD5D2)];
/// Shallow to deep fill.
const FILL: [Rgb; 4] = [rgb(0xE3CFE6), rgb(0xB98BC4), rgb(0x84519B), rgb(0x4A2466)];
/// Beside a stream to far from any.
const WAY: [Rgb; 5] = [rgb(0xFBF3DC), rgb(0xE9C9A0), rgb(0xD1937A), rgb(0xA55A6A), rgb(0x5E2F57)];
/// Clockwise from east, so chosen that opposite directions differ most.
const DIRECTIONS: [Rgb; 8] = [
    rgb(0xD9A441),
    rgb(0xC9703F),
    rgb(0xA8465A),
    rgb(0x7C4E8C),
    rgb(0x4A66A0),
    rgb(0x3F8C9C),
    rgb(0x5B9B6B),
    rgb(0xA3AE52),
];

fn along(ramp: &[Rgb], share: f32) -> Rgb {
    let at = share.clamp(0.0, 1.0) * (ramp.len() - 1) as f32;
    let (low, part) = (at as usize, at.fract());
    let high = (low + 1).min(ramp.len() - 1);
    std::array::from_fn(|i| ramp[low][i] + (ramp[high][i] - ramp[low][i]) * part)
}

/// Terrain tint under a hillshade of brightness 0 to 1.
pub fn terrain(share: f32, brightness: f32) -> [u8; 4] {
    let tint = along(&TERRAIN, share);
    // Level ground keeps its tint; slopes are darkened or lightened.
    let level = std::f32::consts::FRAC_1_SQRT_2;
    let shaded: [u8; 3] = std::array::from_fn(|i| {
        let value = if brightness < level {
            tint[i] * (0.46 + 0.54 * brightness / level)
        } else {
            tint[i] + (255.0 - tint[i]) * 0.55 * (brightness - level) / (1.0 - level)
        };
        value.clamp(0.0, 255.0) as u8
    });
    [shaded[0], shaded[1], shaded[2], 255]
}

/// Depth of fill, as a share of the greatest.
pub fn fill_depth(share: f32) -> [u8; 4] {
    let [r, g, b] = along(&FILL, share);
    [r as u8, g as u8, b as u8, 225]
}

/// Length of the way to a stream, as a share of the longest.
pub fn way(share: f32) -> [u8; 4] {
    let [r, g, b] = along(&WAY, share);
    [r as u8, g as u8, b as u8, 255]
}

/// Deep cut over nothing to high fill.
const CUT: [Rgb; 3] = [rgb(0xF1DCC8), rgb(0xCF8450), rgb(0x8A3414)];
const RAISED: [Rgb; 3] = [rgb(0xDCE3F0), rgb(0x7F8FC4), rgb(0x2E3A7E)];

/// Change of the ground, from -1 (deepest cut) over 0 to 1 (highest fill).
pub fn cut_and_fill(share: f32) -> [u8; 4] {
    let ramp = if share < 0.0 { &CUT } else { &RAISED };
    let [r, g, b] = along(ramp, share.abs());
    [r as u8, g as u8, b as u8, 235]
}

/// Level to steep.
const SLOPE: [Rgb; 5] = [rgb(0xFAF5E6), rgb(0xE9CF9B), rgb(0xCF9257), rgb(0x96512F), rgb(0x4B2218)];

/// Slope, as a share of the range.
pub fn slope(share: f32) -> [u8; 4] {
    let [r, g, b] = along(&SLOPE, share);
    [r as u8, g as u8, b as u8, 255]
}

/// Low or hollow ground over even to high or convex ground.
const POSITION: [Rgb; 7] =
    [rgb(0x0E4A57), rgb(0x3C8790), rgb(0x9CC7C5), rgb(0xF6F1E4), rgb(0xE0B98C), rgb(0xB1743F), rgb(0x6B3A17)];

/// Topographic position or curvature, from -1 (low, hollow) over 0 to 1 (high, convex).
pub fn position(share: f32) -> [u8; 4] {
    let [r, g, b] = along(&POSITION, (share + 1.0) / 2.0);
    [r as u8, g as u8, b as u8, 255]
}

/// A D8 code.
pub fn direction(code: u8) -> [u8; 4] {
    match code {
        0 => [34, 48, 46, 230],
        code if code.is_power_of_two() => {
            let [r, g, b] = DIRECTIONS[code.trailing_zeros() as usize];
            [r as u8, g as u8, b as u8, 230]
        }
        _ => [0, 0, 0, 0],
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ramps_end_where_they_should() {
        assert_eq!(along(&FILL, 0.0), FILL[0]);
        assert_eq!(along(&FILL, 1.0), FILL[3]);
        assert_eq!(along(&FILL, 7.0), FILL[3]);
        assert_eq!(direction(255)[3], 0);
        assert_ne!(direction(1), direction(16), "opposite directions differ");
        assert!(terrain(0.5, 0.2)[0] < terrain(0.5, 0.9)[0]);
    }
}
