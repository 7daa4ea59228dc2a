//! How vector layers are drawn: on the map, and in the styles that go into a package.
//!
//! What the analyst chose is kept with the study as one document, an object for each layer. What is not chosen, or cannot
//! be read, is as usual: a style is never a reason to refuse a study.

use bothros_store::LayerRole;
use serde::Serialize;
use serde_json::Value;

/// A colour: red, green, blue.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Colour(pub [u8; 3]);

impl Colour {
    const fn hex(value: u32) -> Self {
        Self([(value >> 16) as u8, (value >> 8) as u8, value as u8])
    }

    /// Reads `#rrggbb`; `None` for anything else.
    pub fn parse(text: &str) -> Option<Self> {
        let digits = text.strip_prefix('#').filter(|d| d.len() == 6)?;
        digits
            .bytes()
            .all(|b| b.is_ascii_hexdigit())
            .then(|| u32::from_str_radix(digits, 16).ok())?
            .map(Self::hex)
    }
}

impl std::fmt::Display for Colour {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let [r, g, b] = self.0;
        write!(f, "#{r:02X}{g:02X}{b:02X}")
    }
}

impl Serialize for Colour {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(self)
    }
}

/// How the inside of a polygon, or of a point's mark, is filled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Fill {
    /// outline alone
    None,
    /// see-through
    Tint,
    /// opaque
    Full,
}

impl Fill {
    /// All of them, with their names.
    const ALL: [(&'static str, Self); 3] = [("none", Self::None), ("tint", Self::Tint), ("full", Self::Full)];

    /// Opacity, from 0 to 1.
    pub fn opacity(self) -> f64 {
        match self {
            Self::None => 0.0,
            Self::Tint => 0.3,
            Self::Full => 1.0,
        }
    }
}

/// How a line is broken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Dash {
    /// not at all
    Solid,
    /// long strokes
    Dashed,
    /// dots
    Dotted,
    /// alternating strokes and dots, as boundaries are drawn
    Dashdot,
}

impl Dash {
    /// All of them, with their names.
    const ALL: [(&'static str, Self); 4] = [
        ("solid", Self::Solid),
        ("dashed", Self::Dashed),
        ("dotted", Self::Dotted),
        ("dashdot", Self::Dashdot),
    ];

    /// Alternating lengths of strokes and gaps, pixels; empty for a solid line.
    pub fn pattern(self) -> &'static [f64] {
        match self {
            Self::Solid => &[],
            Self::Dashed => &[8.0, 5.0],
            Self::Dotted => &[1.5, 4.0],
            Self::Dashdot => &[8.0, 4.0, 2.0, 4.0],
        }
    }
}

/// How a vector layer is drawn.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct VectorStyle {
    /// colour of lines, outlines and marks
    pub color: Colour,
    /// width of lines and outlines, pixels
    pub width: f64,
    /// how areas are filled
    pub fill: Fill,
    /// how lines are broken
    pub dash: Dash,
    /// column that labels come from; empty for none
    pub label: String,
    /// height of labels, pixels
    pub size: f64,
}

/// How streams of one order are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct OrderStyle {
    /// Strahler order
    pub order: u8,
    /// colour
    pub color: Colour,
    /// width, pixels
    pub width: f64,
}

/// Name of the network among the styles.
pub const STREAMS: &str = "streams";
/// Name of the catchments among the styles.
pub const CATCHMENTS: &str = "catchments";
/// Name of the sub-basins among the styles.
pub const SUBBASINS: &str = "subbasins";
/// Name of the provisional network among the styles.
pub const PROVISIONAL: &str = "provisional";

/// Name of the contours among the styles.
pub const CONTOURS: &str = "contours";

/// Narrowest and widest line, pixels.
const WIDTHS: (f64, f64) = (0.2, 20.0);
/// Smallest and largest label, pixels.
const SIZES: (f64, f64) = (6.0, 48.0);
/// Colours of streams by order, the first for the order that is drawn lightest.
const WATER: [Colour; 5] = [
    Colour::hex(0x4E969D),
    Colour::hex(0x2B7A82),
    Colour::hex(0x0F5C63),
    Colour::hex(0x0A454B),
    Colour::hex(0x062F34),
];

/// Colours of catchments and sub-basins, of which no two neighbours share one.
pub const BASIN_COLOURS: [Colour; 6] = [
    Colour::hex(0xB9A27A),
    Colour::hex(0x8FA98C),
    Colour::hex(0xA58FA6),
    Colour::hex(0xC29A84),
    Colour::hex(0x8CA3B5),
    Colour::hex(0xADAB7C),
];

/// The name under which the layers of a role are styled.
pub fn role_key(role: LayerRole) -> String {
    format!("input-{}", role.name())
}

fn of_role(role: LayerRole) -> VectorStyle {
    use {Dash as D, Fill as F, LayerRole as R};
    let (color, width, fill, dash) = match role {
        R::MappedStreams => (0x2F6DA8, 1.4, F::None, D::Solid),
        R::BreachLines => (0x0F5C63, 2.6, F::None, D::Solid),
        R::Walls => (0x7A3B2E, 3.0, F::None, D::Solid),
        R::Culverts => (0x22302E, 1.5, F::Full, D::Solid),
        R::Lakes => (0x2F6DA8, 1.4, F::Tint, D::Solid),
        R::ClosedBasins => (0x5B7F3B, 1.6, F::Tint, D::Solid),
        R::Boundaries => (0x22302E, 1.5, F::None, D::Dashdot),
        R::RebuildAreas => (0x7C4E8C, 1.8, F::Tint, D::Dashed),
        R::ElevationPoints => (0x7A5A36, 1.5, F::Full, D::Solid),
        R::ContourLines => (0x7A5A36, 1.1, F::None, D::Solid),
        R::Provisional => (0x1F2F63, 1.5, F::None, D::Solid),
        R::Dams => (0x5A4A3A, 3.2, F::None, D::Solid),
        R::Sites => (0xA3263B, 1.8, F::Tint, D::Solid),
        R::ChannelHeads => (0x8A3B12, 1.8, F::None, D::Solid),
        R::MapCoverage => (0x2F6DA8, 1.2, F::None, D::Dashed),
    };
    VectorStyle { color: Colour::hex(color), width, fill, dash, label: String::new(), size: 13.0 }
}

/// Every layer that has a style, with the usual one.
pub fn usual_styles() -> Vec<(String, VectorStyle)> {
    let line = of_role(LayerRole::Provisional);
    let streams = VectorStyle { color: WATER[2], width: 0.9, ..line.clone() };
    let catchments = VectorStyle {
        color: Colour::hex(0x22302E),
        width: 1.6,
        fill: Fill::Tint,
        label: "name".into(),
        ..line.clone()
    };
    let subbasins = VectorStyle { width: 0.8, label: "number".into(), size: 11.0, ..catchments.clone() };
    let contours =
        VectorStyle { width: 0.7, label: "elevation".into(), size: 11.0, ..of_role(LayerRole::ContourLines) };
    let mut all = vec![
        (STREAMS.to_owned(), streams),
        (CATCHMENTS.to_owned(), catchments),
        (SUBBASINS.to_owned(), subbasins),
        (PROVISIONAL.to_owned(), line),
        (CONTOURS.to_owned(), contours),
    ];
    all.extend(LayerRole::ALL.into_iter().map(|role| (role_key(role), of_role(role))));
    all
}

fn number(of: &Value, name: &str, (least, most): (f64, f64)) -> Option<f64> {
    of[name].as_f64().map(|n| n.clamp(least, most))
}

fn named<T: Copy>(of: &Value, name: &str, all: &[(&str, T)]) -> Option<T> {
    let wanted = of[name].as_str()?;
    all.iter().find(|(key, _)| *key == wanted).map(|(_, value)| *value)
}

/// How a layer is drawn in a study whose styles are `styles`; `None` where no layer of that name has a style.
pub fn vector_style(styles: &Value, key: &str) -> Option<VectorStyle> {
    let usual = usual_styles().into_iter().find(|(name, _)| name == key)?.1;
    let chosen = &styles[key];
    Some(VectorStyle {
        color: chosen["color"].as_str().and_then(Colour::parse).unwrap_or(usual.color),
        width: number(chosen, "width", WIDTHS).unwrap_or(usual.width),
        fill: named(chosen, "fill", &Fill::ALL).unwrap_or(usual.fill),
        dash: named(chosen, "dash", &Dash::ALL).unwrap_or(usual.dash),
        label: match (chosen["label"].as_str(), chosen["labels"].as_f64()) {
            (Some(column), _) => column.to_owned(),
            // Labels were on or off before there was a choice of columns.
            (None, Some(on)) if on > 0.0 && key == STREAMS => "order".to_owned(),
            _ => usual.label,
        },
        size: number(chosen, "size", SIZES).unwrap_or(usual.size),
    })
}

/// How streams of the orders from 1 to `highest` are drawn in a study whose styles are `styles`.
pub fn order_styles(styles: &Value, highest: u8) -> Vec<OrderStyle> {
    let chosen = &styles[STREAMS]["orders"];
    let style = |order: u8| {
        let own = &chosen[order.to_string()];
        let usual = WATER[usize::from(order - 1).min(WATER.len() - 1)];
        OrderStyle {
            order,
            color: own["color"].as_str().and_then(Colour::parse).unwrap_or(usual),
            width: number(own, "width", WIDTHS).unwrap_or(0.9 + 0.75 * f64::from(order - 1)),
        }
    };
    (1..=highest).map(style).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::json;

    #[rstest]
    #[case("#0F5C63", Some([15, 92, 99]))]
    #[case("#0f5c63", Some([15, 92, 99]))]
    #[case("0F5C63", None)]
    #[case("#0F5C6", None)]
    #[case("#0F5C6G", None)]
    #[case("#+F5C63", None)]
    #[case("red", None)]
    #[case("\"/><script>", None)]
    fn colours_are_six_digits_and_nothing_else(#[case] text: &str, #[case] expected: Option<[u8; 3]>) {
        assert_eq!(Colour::parse(text).map(|c| c.0), expected);
    }

    #[test]
    fn what_was_chosen_counts_and_the_rest_is_as_usual() {
        let styles = json!({ "catchments": { "fill": "none", "width": 3, "opacity": 0.5 } });
        let style = vector_style(&styles, CATCHMENTS).unwrap();
        let usual = vector_style(&Value::Null, CATCHMENTS).unwrap();
        assert_eq!(style, VectorStyle { fill: Fill::None, width: 3.0, ..usual });
        assert_eq!(vector_style(&styles, "relief"), None, "rasters have none");
    }

    #[test]
    fn labels_that_were_on_before_there_was_a_choice_tell_the_order() {
        let label = |styles: Value| vector_style(&styles, STREAMS).unwrap().label;
        assert_eq!(label(json!({ "streams": { "labels": 1 } })), "order");
        assert_eq!(label(json!({ "streams": { "labels": 0 } })), "");
        assert_eq!(label(json!({ "streams": { "labels": 1, "label": "area" } })), "area");
    }

    #[rstest]
    #[case(json!({ "streams": { "color": "url(x)", "width": "wide", "dash": 7, "fill": [] } }))]
    #[case(json!({ "streams": "thick" }))]
    #[case(json!([1, 2]))]
    #[case(json!("x"))]
    #[case(Value::Null)]
    fn what_cannot_be_read_is_as_usual(#[case] styles: Value) {
        assert_eq!(vector_style(&styles, STREAMS), vector_style(&Value::Null, STREAMS));
        assert_eq!(order_styles(&styles, 3), order_styles(&Value::Null, 3));
    }

    #[test]
    fn numbers_stay_within_what_can_be_drawn() {
        let styles = json!({ "streams": { "width": 1e9, "size": -4, "orders": { "1": { "width": 0 } } } });
        let style = vector_style(&styles, STREAMS).unwrap();
        assert_eq!((style.width, style.size), (20.0, 6.0));
        assert_eq!(order_styles(&styles, 1)[0].width, 0.2);
    }

    #[test]
    fn each_order_has_its_own_style_and_the_higher_is_the_wider() {
        let styles = json!({ "streams": { "orders": { "2": { "color": "#FF0000" } } } });
        let all = order_styles(&styles, 7);
        assert_eq!(all.len(), 7);
        assert!(all.windows(2).all(|w| w[0].width < w[1].width));
        assert_eq!(all[1].color, Colour([255, 0, 0]));
        assert_ne!(all[0].color, all[4].color);
        assert!(order_styles(&styles, 0).is_empty());
    }

    #[test]
    fn every_role_has_a_style_of_its_own_name() {
        let names: Vec<String> = usual_styles().into_iter().map(|(name, _)| name).collect();
        for role in LayerRole::ALL {
            assert!(names.contains(&role_key(role)), "{}", role.name());
        }
        let mut once = names.clone();
        once.sort();
        once.dedup();
        assert_eq!(once.len(), names.len());
    }
}
