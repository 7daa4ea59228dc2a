//! Web Map Service 1.1.1: what it can draw, and the address of a picture.

use roxmltree::Document;
use url::Url;

use crate::levels::Extent;

/// The CRSs that a layer can be drawn in, as its capabilities tell: its own and those of the layers around it.
///
/// Returns `None` where this is no document of capabilities, or has no such layer.
pub(crate) fn reference_systems(capabilities: &str, layers: &str) -> Option<Vec<String>> {
    let document = Document::parse(capabilities).ok()?;
    let named = |wanted: &str| {
        document.descendants().filter(|n| n.has_tag_name("Layer")).find(|n| {
            n.children()
                .find(|c| c.has_tag_name("Name"))
                .and_then(|c| c.text())
                .is_some_and(|t| t.trim() == wanted)
        })
    };
    let of = |layer: &str| -> Option<Vec<String>> {
        let around = named(layer)?.ancestors();
        let systems = around.flat_map(|n| n.children().filter(|c| c.has_tag_name("SRS")));
        // Older services list several in one element.
        Some(systems.filter_map(|s| s.text()).flat_map(str::split_whitespace).map(str::to_owned).collect())
    };
    // All layers that are drawn together must know it.
    let mut all = layers.split(',').map(|l| of(l.trim()));
    let mut common = all.next()??;
    for next in all {
        let next = next?;
        common.retain(|system| next.contains(system));
    }
    Some(common)
}

/// An address with more questions than it has.
pub(crate) fn asking(url: &Url, questions: &[(&str, &str)]) -> Url {
    let mut url = url.clone();
    let kept: Vec<(String, String)> = url
        .query_pairs()
        .filter(|(key, _)| !questions.iter().any(|(q, _)| q.eq_ignore_ascii_case(key)))
        .map(|(k, v)| (k.into_owned(), v.into_owned()))
        .collect();
    url.query_pairs_mut().clear().extend_pairs(kept).extend_pairs(questions);
    url
}

/// The address of a picture.
pub(crate) fn picture(
    url: &Url,
    layers: &str,
    system: &str,
    extent: Extent,
    (width, height): (usize, usize),
) -> Url {
    let corners = extent.map(|v| v.to_string()).join(",");
    asking(
        url,
        &[
            ("SERVICE", "WMS"),
            ("VERSION", "1.1.1"),
            ("REQUEST", "GetMap"),
            ("LAYERS", layers),
            ("STYLES", ""),
            ("SRS", system),
            ("BBOX", &corners),
            ("WIDTH", &width.to_string()),
            ("HEIGHT", &height.to_string()),
            ("FORMAT", "image/png"),
            ("TRANSPARENT", "TRUE"),
        ],
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    const CAPABILITIES: &str = r#"<?xml version="1.0"?><WMT_MS_Capabilities version="1.1.1"><Capability><Layer>
        <Title>All</Title><SRS>EPSG:4326 EPSG:3857</SRS>
        <Layer queryable="1"><Name>ground</Name><SRS>EPSG:32628</SRS></Layer>
        <Layer><Name>roads</Name></Layer></Layer></Capability></WMT_MS_Capabilities>"#;

    #[test]
    fn a_layer_knows_its_own_systems_and_those_around_it() {
        assert_eq!(
            reference_systems(CAPABILITIES, "ground").unwrap(),
            ["EPSG:32628", "EPSG:4326", "EPSG:3857"]
        );
        assert_eq!(reference_systems(CAPABILITIES, "ground,roads").unwrap(), ["EPSG:4326", "EPSG:3857"]);
        assert_eq!(reference_systems(CAPABILITIES, "soils"), None);
        assert_eq!(reference_systems("<html>", "ground"), None);
    }

    #[test]
    fn what_the_address_asks_already_stays() {
        let url = Url::parse("https://maps.example/wms?key=a%26b&request=GetCapabilities").unwrap();
        let asked = picture(&url, "ground", "EPSG:32628", [1.5, 2.0, 3.0, 4.0], (256, 128));
        let pairs: Vec<_> = asked.query_pairs().collect();
        assert_eq!(pairs.iter().filter(|(k, _)| k.eq_ignore_ascii_case("request")).count(), 1);
        let value = |key: &str| pairs.iter().find(|(k, _)| k == key).map(|(_, v)| v.to_string());
        assert_eq!(value("key").as_deref(), Some("a&b"));
        assert_eq!(value("BBOX").as_deref(), Some("1.5,2,3,4"));
    }
}
