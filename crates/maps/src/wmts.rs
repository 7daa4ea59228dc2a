//! Web Map Tile Service 1.0.0: the levels of a layer, and the address of a tile.

use bothros_formats::{Crs, CrsKind};
use roxmltree::{Document, Node};
use url::Url;

use crate::levels::Level;
use crate::wms::asking;

/// A set of levels that a layer has.
#[derive(Debug, Clone)]
pub(crate) struct MatrixSet {
    /// its name
    pub identifier: String,
    /// the CRS of its tiles
    pub crs: Crs,
    /// its levels
    pub levels: Vec<Level>,
    /// the style that tiles are asked in
    pub style: String,
    /// the format that tiles are asked in
    pub format: String,
}

/// Edge of a pixel that scale denominators are told for, metres (OGC 07-057r7, 6.1).
const PIXEL_M: f64 = 0.000_28;

fn child<'a>(of: Node<'a, 'a>, name: &str) -> Option<Node<'a, 'a>> {
    of.children().find(|n| n.tag_name().name() == name)
}

fn text<'a>(of: Node<'a, 'a>, name: &str) -> Option<&'a str> {
    child(of, name)?.text().map(str::trim)
}

fn number<T: std::str::FromStr>(of: Node<'_, '_>, name: &str) -> Option<T> {
    child(of, name)?.text()?.trim().parse().ok()
}

/// The sets of levels of a layer whose CRS has metres or other lengths, in the order in which the layer lists them.
///
/// Returns `None` where this is no document of capabilities, or has no such layer.
pub(crate) fn matrix_sets(capabilities: &str, layer: &str) -> Option<Vec<MatrixSet>> {
    let document = Document::parse(capabilities).ok()?;
    let contents = document.descendants().find(|n| n.tag_name().name() == "Contents")?;
    let layers = contents.children().filter(|n| n.tag_name().name() == "Layer");
    let found = layers.into_iter().find(|n| text(*n, "Identifier") == Some(layer))?;
    let styles: Vec<Node> = found.children().filter(|n| n.tag_name().name() == "Style").collect();
    let usual = styles.iter().find(|s| s.attribute("isDefault") == Some("true")).or(styles.first());
    let style = usual.and_then(|s| text(*s, "Identifier")).unwrap_or("default").to_owned();
    let formats: Vec<&str> = found
        .children()
        .filter(|n| n.tag_name().name() == "Format")
        .filter_map(|n| n.text())
        .map(str::trim)
        .collect();
    let known = ["image/png", "image/jpeg", "image/webp"];
    let format = (*known.iter().find(|f| formats.contains(f))?).to_owned();
    let mut out = Vec::new();
    for link in found.children().filter(|n| n.tag_name().name() == "TileMatrixSetLink") {
        let Some(identifier) = text(link, "TileMatrixSet") else { continue };
        let sets = contents.children().filter(|n| n.tag_name().name() == "TileMatrixSet");
        let Some(set) = sets.into_iter().find(|n| text(*n, "Identifier") == Some(identifier)) else {
            continue;
        };
        let crs = text(set, "SupportedCRS").and_then(system);
        let Some(crs) = crs.filter(|c| c.kind == CrsKind::Projected) else { continue };
        let matrices = set.children().filter(|n| n.tag_name().name() == "TileMatrix");
        let levels: Vec<Level> = matrices.filter_map(|m| level(m, crs.unit_m)).collect();
        if !levels.is_empty() {
            let (identifier, style, format) = (identifier.to_owned(), style.clone(), format.clone());
            out.push(MatrixSet { identifier, crs, levels, style, format });
        }
    }
    Some(out)
}

/// A CRS as `urn:ogc:def:crs:EPSG::3857` or `EPSG:3857`; EPSG codes alone.
fn system(text: &str) -> Option<Crs> {
    if !text.contains("EPSG") {
        return None;
    }
    let code: u32 = text.rsplit([':', '/']).next()?.parse().ok()?;
    Crs::parse(&format!("EPSG:{code}")).ok()
}

fn level(of: Node<'_, '_>, unit_m: f64) -> Option<Level> {
    let corner: Vec<f64> =
        text(of, "TopLeftCorner")?.split_whitespace().map(str::parse).collect::<Result<_, _>>().ok()?;
    let resolution = number::<f64>(of, "ScaleDenominator")? * PIXEL_M / unit_m;
    let usable = resolution > 0.0 && resolution.is_finite() && corner.iter().all(|c| c.is_finite());
    let tile = [number(of, "TileWidth")?, number(of, "TileHeight")?];
    let level = Level {
        identifier: text(of, "Identifier")?.to_owned(),
        resolution,
        origin: [*corner.first()?, *corner.get(1)?],
        tile,
        matrix: [number(of, "MatrixWidth")?, number(of, "MatrixHeight")?],
    };
    (usable && tile.iter().all(|&t| (1..=2048).contains(&t))).then_some(level)
}

/// The address of a tile.
pub(crate) fn tile(
    url: &Url,
    layer: &str,
    set: &MatrixSet,
    level: &Level,
    (col, row): (usize, usize),
) -> Url {
    asking(
        url,
        &[
            ("SERVICE", "WMTS"),
            ("VERSION", "1.0.0"),
            ("REQUEST", "GetTile"),
            ("LAYER", layer),
            ("STYLE", &set.style),
            ("FORMAT", &set.format),
            ("TILEMATRIXSET", &set.identifier),
            ("TILEMATRIX", &level.identifier),
            ("TILEROW", &row.to_string()),
            ("TILECOL", &col.to_string()),
        ],
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    const CAPABILITIES: &str = r#"<?xml version="1.0"?><Capabilities xmlns="http://www.opengis.net/wmts/1.0"
        xmlns:ows="http://www.opengis.net/ows/1.1"><Contents>
        <Layer><ows:Identifier>ground</ows:Identifier>
          <Style><ows:Identifier>grey</ows:Identifier></Style>
          <Style isDefault="true"><ows:Identifier>colour</ows:Identifier></Style>
          <Format>image/jpeg</Format>
          <TileMatrixSetLink><TileMatrixSet>degrees</TileMatrixSet></TileMatrixSetLink>
          <TileMatrixSetLink><TileMatrixSet>square</TileMatrixSet></TileMatrixSetLink></Layer>
        <TileMatrixSet><ows:Identifier>degrees</ows:Identifier>
          <ows:SupportedCRS>urn:ogc:def:crs:EPSG::4326</ows:SupportedCRS>
          <TileMatrix><ows:Identifier>0</ows:Identifier><ScaleDenominator>2.8e8</ScaleDenominator>
            <TopLeftCorner>90 -180</TopLeftCorner><TileWidth>256</TileWidth><TileHeight>256</TileHeight>
            <MatrixWidth>2</MatrixWidth><MatrixHeight>1</MatrixHeight></TileMatrix></TileMatrixSet>
        <TileMatrixSet><ows:Identifier>square</ows:Identifier>
          <ows:SupportedCRS>urn:ogc:def:crs:EPSG:6.18:3:3857</ows:SupportedCRS>
          <TileMatrix><ows:Identifier>zero</ows:Identifier><ScaleDenominator>559082264.0287178</ScaleDenominator>
            <TopLeftCorner>-20037508.342789244 20037508.342789244</TopLeftCorner>
            <TileWidth>256</TileWidth><TileHeight>256</TileHeight>
            <MatrixWidth>1</MatrixWidth><MatrixHeight>1</MatrixHeight></TileMatrix>
          <TileMatrix><ows:Identifier>broken</ows:Identifier><ScaleDenominator>-1</ScaleDenominator>
            <TopLeftCorner>0 0</TopLeftCorner><TileWidth>256</TileWidth><TileHeight>256</TileHeight>
            <MatrixWidth>1</MatrixWidth><MatrixHeight>1</MatrixHeight></TileMatrix></TileMatrixSet>
        </Contents></Capabilities>"#;

    #[test]
    fn levels_styles_and_formats_are_those_of_the_layer() {
        let sets = matrix_sets(CAPABILITIES, "ground").unwrap();
        assert_eq!(sets.len(), 1, "latitude and longitude are left out");
        let set = &sets[0];
        assert_eq!(
            (set.style.as_str(), set.format.as_str(), set.crs.epsg),
            ("colour", "image/jpeg", Some(3857))
        );
        assert_eq!(set.levels.len(), 1, "a level that cannot be is left out");
        assert!((set.levels[0].resolution - Level::web_mercator(0)[0].resolution).abs() < 1e-3);
        let asked =
            tile(&Url::parse("https://a.example/wmts").unwrap(), "ground", set, &set.levels[0], (0, 3));
        assert!(asked.as_str().contains("TILEMATRIX=zero&TILEROW=3&TILECOL=0"), "{asked}");
    }

    #[test]
    fn what_is_no_capabilities_gives_nothing() {
        assert!(matrix_sets("<html></html>", "ground").is_none());
        assert!(matrix_sets("no xml", "ground").is_none());
        assert!(matrix_sets(CAPABILITIES, "soils").is_none());
    }
}
