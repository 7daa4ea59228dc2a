//! Colours of map layers: ramps of our own, and even ones to choose from.

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
/// Deep cut over nothing to high fill.
const CHANGE: [Rgb; 7] =
    [rgb(0x8A3414), rgb(0xCF8450), rgb(0xF1DCC8), rgb(0xFFFDF8), rgb(0xDCE3F0), rgb(0x7F8FC4), rgb(0x2E3A7E)];
/// Level to steep.
const SLOPE: [Rgb; 5] = [rgb(0xFAF5E6), rgb(0xE9CF9B), rgb(0xCF9257), rgb(0x96512F), rgb(0x4B2218)];
/// Low or hollow ground over even to high or convex ground.
const POSITION: [Rgb; 7] =
    [rgb(0x0E4A57), rgb(0x3C8790), rgb(0x9CC7C5), rgb(0xF6F1E4), rgb(0xE0B98C), rgb(0xB1743F), rgb(0x6B3A17)];
/// Small to large contributing area.
const AREA: [Rgb; 8] = [
    rgb(0xF3EBD3),
    rgb(0xD5DCC0),
    rgb(0xA3C4B5),
    rgb(0x6BA5A5),
    rgb(0x3A7F8C),
    rgb(0x215873),
    rgb(0x1B3557),
    rgb(0x141E3A),
];
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

/// Dry to wet ground.
const WET: [Rgb; 6] =
    [rgb(0xEFE3C8), rgb(0xD8D2A0), rgb(0xA5BE8E), rgb(0x5F9E93), rgb(0x2F6F8F), rgb(0x1F3F70)];
/// Weak to strong flow.
const POWER: [Rgb; 5] = [rgb(0xF4EEDB), rgb(0xE5C88C), rgb(0xD18A4A), rgb(0x9C3F39), rgb(0x4A1636)];
/// At the stream to high above it.
const HEIGHTS: [Rgb; 6] =
    [rgb(0x1E5A78), rgb(0x6FA9A8), rgb(0xCFDDB8), rgb(0xF1E4B8), rgb(0xD5A56F), rgb(0x8C5A3C)];
/// From north by east, south and west to north again.
const WAYS_ROUND: [Rgb; 9] = [
    rgb(0x3F4F7F),
    rgb(0x3F8C9C),
    rgb(0x7FB08A),
    rgb(0xC9C46A),
    rgb(0xF0DFA0),
    rgb(0xD9A05F),
    rgb(0xB5656A),
    rgb(0x7C4E8C),
    rgb(0x3F4F7F),
];
/// Seldom stream to always stream.
const PROBABLE: [Rgb; 4] = [rgb(0xF0E3B2), rgb(0xC9BE7A), rgb(0x5E9E8F), rgb(0x0B4A5C)];
/// Seldom inside over a matter of chance to always inside.
const DIVIDE: [Rgb; 5] = [rgb(0xEFD9E6), rgb(0xC98BB0), rgb(0x8C3B74), rgb(0xB9A8C9), rgb(0xCFE0DC)];

/// Low to high values of a raster from a formula.
const MADE: [Rgb; 6] =
    [rgb(0xF5EFDC), rgb(0xDFCF97), rgb(0xAEA75F), rgb(0x668455), rgb(0x2F5F58), rgb(0x133642)];

/// The layers that are drawn along a ramp, by their names on the map, each with its own.
const OWN: [(&str, &[Rgb]); 17] = [
    ("relief", &TERRAIN),
    ("slope", &SLOPE),
    ("curvature", &POSITION),
    ("near", &POSITION),
    ("far", &POSITION),
    ("sinks", &FILL),
    ("change", &CHANGE),
    ("way", &WAY),
    ("area", &AREA),
    ("specific_area", &AREA),
    ("wetness_index", &WET),
    ("stream_power_index", &POWER),
    ("height_above_stream", &HEIGHTS),
    ("aspect", &WAYS_ROUND),
    ("probable", &PROBABLE),
    ("divide", &DIVIDE),
    ("derived", &MADE),
];

/// Ramps that any layer can be given instead of its own: even steps look even, also in grey and to eyes that do not tell
/// red from green. After S. van der Walt and N. Smith (viridis, magma, inferno, plasma, published CC0) and Nuñez, Anderton
/// and Renslow 2018, “Optimizing colormaps with consideration for color vision deficiency” (cividis); values by the crate
/// colorous.
const EVEN: [(&str, colorous::Gradient); 6] = [
    ("viridis", colorous::VIRIDIS),
    ("cividis", colorous::CIVIDIS),
    ("magma", colorous::MAGMA),
    ("inferno", colorous::INFERNO),
    ("plasma", colorous::PLASMA),
    ("greys", colorous::GREYS),
];

/// Stops that a ramp by function is drawn with.
const STOPS: usize = 17;

/// Colours from the lowest value to the highest, evenly spaced.
#[derive(Debug, Clone, PartialEq)]
pub struct Ramp(Vec<Rgb>);

impl Ramp {
    /// The ramp of a layer: its own, or an even one by name; from high to low where it is reversed. A name that is not
    /// known gives the layer's own.
    pub fn of(layer: &str, name: Option<&str>, reversed: bool) -> Self {
        let even = EVEN.iter().find(|(n, _)| Some(*n) == name).map(|(_, g)| even(g));
        let own = || OWN.iter().find(|(n, _)| *n == layer).map_or(&TERRAIN[..], |(_, r)| r).to_vec();
        let mut stops = even.unwrap_or_else(own);
        if reversed {
            stops.reverse();
        }
        Self(stops)
    }

    /// The colour at a share of the way from low to high; what lies beyond takes that of the end.
    pub fn at(&self, share: f32) -> Rgb {
        let at = share.clamp(0.0, 1.0) * (self.0.len() - 1) as f32;
        let (low, part) = (at as usize, at.fract());
        let high = (low + 1).min(self.0.len() - 1);
        std::array::from_fn(|i| self.0[low][i] + (self.0[high][i] - self.0[low][i]) * part)
    }

    /// The colour at a share of the way, as a pixel of this opacity.
    pub fn pixel(&self, share: f32, opacity: u8) -> [u8; 4] {
        let [r, g, b] = self.at(share);
        [r as u8, g as u8, b as u8, opacity]
    }

    /// The colours as `#rrggbb`.
    fn hex(&self) -> Vec<String> {
        let hex = |[r, g, b]: &Rgb| format!("#{:02X}{:02X}{:02X}", *r as u8, *g as u8, *b as u8);
        self.0.iter().map(hex).collect()
    }
}

fn even(gradient: &colorous::Gradient) -> Vec<Rgb> {
    let stop = |i| {
        let c = gradient.eval_rational(i, STOPS);
        [c.r, c.g, c.b].map(f32::from)
    };
    (0..STOPS).map(stop).collect()
}

/// All ramps, for the keys of the map: those of the layers by their names, and the even ones by theirs.
pub fn ramps() -> serde_json::Value {
    let own: serde_json::Map<_, _> =
        OWN.iter().map(|(layer, _)| (layer.to_string(), Ramp::of(layer, None, false).hex().into())).collect();
    let even: Vec<_> = EVEN
        .iter()
        .map(|(name, g)| serde_json::json!({ "name": name, "colours": Ramp(even(g)).hex() }))
        .collect();
    serde_json::json!({ "own": own, "even": even })
}

/// Terrain tint under a hillshade of brightness 0 to 1.
pub fn shaded(tint: Rgb, brightness: f32) -> [u8; 4] {
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
        let ramp = Ramp::of("sinks", None, false);
        assert_eq!(ramp.at(0.0), FILL[0]);
        assert_eq!(ramp.at(1.0), FILL[3]);
        assert_eq!(ramp.at(7.0), FILL[3]);
        assert_eq!(direction(255)[3], 0);
        assert_ne!(direction(1), direction(16), "opposite directions differ");
        assert!(shaded(TERRAIN[2], 0.2)[0] < shaded(TERRAIN[2], 0.9)[0]);
    }

    #[test]
    fn a_ramp_can_be_chosen_and_reversed_and_an_unknown_one_is_the_layers_own() {
        // Ends of viridis as published with it (CC0): 68, 1, 84 and 253, 231, 37 of 255.
        let viridis = Ramp::of("slope", Some("viridis"), false);
        let near = |a: Rgb, b: Rgb| a.iter().zip(b).all(|(a, b)| (a - b).abs() <= 1.0);
        assert!(near(viridis.at(0.0), [68.0, 1.0, 84.0]), "{:?}", viridis.at(0.0));
        assert!(near(viridis.at(1.0), [253.0, 231.0, 37.0]), "{:?}", viridis.at(1.0));
        let reversed = Ramp::of("slope", Some("viridis"), true);
        for share in [0.0, 0.3, 0.5, 0.9] {
            assert!(near(reversed.at(share), viridis.at(1.0 - share)));
        }
        assert_eq!(Ramp::of("slope", Some("rainbow"), false), Ramp::of("slope", None, false));
    }

    #[test]
    fn even_ramps_grow_lighter_in_even_steps() {
        // CIE 1976 lightness from sRGB (IEC 61966-2-1, ISO/CIE 11664-4), constants from memory.
        let lightness = |[r, g, b]: Rgb| {
            let linear = |v: f32| {
                let v = v / 255.0;
                if v <= 0.04045 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
            };
            let y = 0.2126 * linear(r) + 0.7152 * linear(g) + 0.0722 * linear(b);
            116.0 * if y > 0.008856 { y.cbrt() } else { 7.787 * y + 16.0 / 116.0 } - 16.0
        };
        for name in ["viridis", "cividis", "magma", "inferno", "plasma"] {
            let ramp = Ramp::of("slope", Some(name), false);
            let all: Vec<f32> = (0..9).map(|i| lightness(ramp.at(i as f32 / 8.0))).collect();
            let steps: Vec<f32> = all.windows(2).map(|w| w[1] - w[0]).collect();
            let mean = steps.iter().sum::<f32>() / 8.0;
            assert!(steps.iter().all(|s| (s - mean).abs() < 0.5 * mean), "{name}: {steps:?}");
        }
    }

    #[test]
    fn the_map_is_told_of_every_ramp() {
        let told = ramps();
        assert_eq!(told["own"].as_object().unwrap().len(), OWN.len());
        assert_eq!(told["even"][0]["colours"].as_array().unwrap().len(), STOPS);
        assert_eq!(told["own"]["sinks"][0], "#E3CFE6");
    }
}
