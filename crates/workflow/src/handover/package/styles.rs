//! How the map draws the layers, as Styled Layer Descriptors for other programs.
//!
//! OGC 02-070, Styled Layer Descriptor 1.0.0, which general GIS software reads and writes. Widths are pixels of 0.28 mm, as
//! the standard has them.

use bothros_products::{CATCHMENTS, JUNCTIONS, MAIN_STEMS, POUR_POINTS, REACHES, SUBBASINS};
use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesText, Event};
use serde_json::Value;

use crate::study::{
    BASIN_COLOURS, CATCHMENT_STYLE, Fill, OrderStyle, STREAM_STYLE, SUBBASIN_STYLE, VectorStyle,
    order_styles, vector_style,
};
use crate::{Colour, Dash, Result};

type Xml = Writer<Vec<u8>>;
type Io = std::io::Result<()>;

/// Colour of pour points on the map.
const POUR_POINT: Colour = Colour([0xB4, 0x53, 0x2A]);
/// Colour of labels, and of the halo around them.
const INK: Colour = Colour([0x22, 0x30, 0x2E]);
const PAPER: Colour = Colour([0xFF, 0xFD, 0xF8]);

/// The styles of a package's layers: name of the layer, and the document. `highest` is the highest Strahler order.
pub(super) fn documents(styles: &Value, highest: u8) -> Result<Vec<(&'static str, Vec<u8>)>> {
    let style = |key: &str| {
        vector_style(styles, key).ok_or_else(|| crate::Error::Refused(format!("no style “{key}”")))
    };
    let (streams, catchments, parts) =
        (style(STREAM_STYLE)?, style(CATCHMENT_STYLE)?, style(SUBBASIN_STYLE)?);
    let orders = order_styles(styles, highest.max(1));
    let widest = orders.last().map_or(streams.width, |o| o.width);
    let stem = VectorStyle {
        color: orders.last().map_or(streams.color, |o| o.color),
        width: widest,
        ..streams.clone()
    };
    let dash = streams.dash;
    Ok(vec![
        (REACHES.name, document(REACHES.name, |xml| reaches(xml, &streams, &orders))?),
        (
            MAIN_STEMS.name,
            document(MAIN_STEMS.name, |xml| rule(xml, |xml| line(xml, stem.color, stem.width, dash)))?,
        ),
        (CATCHMENTS.name, document(CATCHMENTS.name, |xml| areas(xml, &catchments))?),
        (SUBBASINS.name, document(SUBBASINS.name, |xml| parts_apart(xml, &parts))?),
        (POUR_POINTS.name, document(POUR_POINTS.name, |xml| points(xml, &catchments))?),
        (
            JUNCTIONS.name,
            document(JUNCTIONS.name, |xml| rule(xml, |xml| mark(xml, "circle", stem.color, 5.0)))?,
        ),
    ])
}

/// A document for one layer; `rules` writes its rules.
fn document(layer: &str, rules: impl FnOnce(&mut Xml) -> Io) -> Result<Vec<u8>> {
    let mut xml = Writer::new_with_indent(Vec::new(), b' ', 2);
    xml.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let root = xml.create_element("StyledLayerDescriptor").with_attributes([
        ("version", "1.0.0"),
        ("xmlns", "http://www.opengis.net/sld"),
        ("xmlns:ogc", "http://www.opengis.net/ogc"),
        ("xmlns:xlink", "http://www.w3.org/1999/xlink"),
    ]);
    root.write_inner_content(|xml| {
        within(xml, "NamedLayer", |xml| {
            text(xml, "Name", layer)?;
            within(xml, "UserStyle", |xml| within(xml, "FeatureTypeStyle", rules))
        })
    })?;
    Ok(xml.into_inner())
}

/// Streams from the lowest order up, so that the larger are drawn over the smaller.
fn reaches(xml: &mut Xml, streams: &VectorStyle, orders: &[OrderStyle]) -> Io {
    for order in orders {
        within(xml, "Rule", |xml| {
            text(xml, "Name", &format!("Strahler order {}", order.order))?;
            equal(xml, "strahler", u32::from(order.order))?;
            line(xml, order.color, order.width, streams.dash)?;
            let column = match streams.label.as_str() {
                "order" => Some("strahler"),
                "magnitude" => Some("shreve"),
                "area" => Some("contributing_area_km2"),
                "id" => Some("reach_id"),
                _ => None,
            };
            column.map_or(Ok(()), |column| label(xml, column, streams.size))
        })?;
    }
    Ok(())
}

/// Sub-basins, so that no two neighbours share a colour.
fn parts_apart(xml: &mut Xml, style: &VectorStyle) -> Io {
    for (color, number) in BASIN_COLOURS.into_iter().zip(1u32..) {
        within(xml, "Rule", |xml| {
            text(xml, "Name", &format!("Colour {number}"))?;
            equal(xml, "colour", number)?;
            polygon(xml, style, color)?;
            match style.label.as_str() {
                "name" => label(xml, "name", style.size),
                "number" => label(xml, "subbasin_id", style.size),
                "area" => label(xml, "area_km2", style.size),
                _ => Ok(()),
            }
        })?;
    }
    Ok(())
}

/// An area with the outline of a style; `color` is that of its filling.
fn polygon(xml: &mut Xml, style: &VectorStyle, color: Colour) -> Io {
    within(xml, "PolygonSymbolizer", |xml| {
        if style.fill != Fill::None {
            within(xml, "Fill", |xml| {
                parameter(xml, "fill", &color.to_string())?;
                parameter(xml, "fill-opacity", &style.fill.opacity().to_string())
            })?;
        }
        stroke(xml, style.color, style.width, style.dash)
    })
}

/// A rule holds where a column has this value.
fn equal(xml: &mut Xml, column: &str, value: u32) -> Io {
    within(xml, "ogc:Filter", |xml| {
        within(xml, "ogc:PropertyIsEqualTo", |xml| {
            text(xml, "ogc:PropertyName", column)?;
            text(xml, "ogc:Literal", &value.to_string())
        })
    })
}

fn areas(xml: &mut Xml, style: &VectorStyle) -> Io {
    rule(xml, |xml| {
        polygon(xml, style, style.color)?;
        match style.label.as_str() {
            "name" => label(xml, "name", style.size),
            "number" => label(xml, "catchment_id", style.size),
            "area" => label(xml, "area_km2", style.size),
            _ => Ok(()),
        }
    })
}

fn points(xml: &mut Xml, style: &VectorStyle) -> Io {
    rule(xml, |xml| {
        mark(xml, "square", POUR_POINT, 10.0)?;
        label(xml, "name", style.size)
    })
}

fn within(xml: &mut Xml, name: &str, inside: impl FnOnce(&mut Xml) -> Io) -> Io {
    xml.create_element(name).write_inner_content(inside).map(drop)
}

fn text(xml: &mut Xml, name: &str, text: &str) -> Io {
    xml.create_element(name).write_text_content(BytesText::new(text)).map(drop)
}

fn parameter(xml: &mut Xml, name: &str, value: &str) -> Io {
    xml.create_element("CssParameter")
        .with_attribute(("name", name))
        .write_text_content(BytesText::new(value))
        .map(drop)
}

fn rule(xml: &mut Xml, inside: impl FnOnce(&mut Xml) -> Io) -> Io {
    within(xml, "Rule", inside)
}

fn stroke(xml: &mut Xml, color: Colour, width: f64, dash: Dash) -> Io {
    within(xml, "Stroke", |xml| {
        parameter(xml, "stroke", &color.to_string())?;
        parameter(xml, "stroke-width", &width.to_string())?;
        if !dash.pattern().is_empty() {
            let pattern: Vec<String> = dash.pattern().iter().map(f64::to_string).collect();
            parameter(xml, "stroke-dasharray", &pattern.join(" "))?;
        }
        parameter(xml, "stroke-linejoin", "round")
    })
}

fn line(xml: &mut Xml, color: Colour, width: f64, dash: Dash) -> Io {
    within(xml, "LineSymbolizer", |xml| stroke(xml, color, width, dash))
}

fn mark(xml: &mut Xml, shape: &str, color: Colour, size: f64) -> Io {
    within(xml, "PointSymbolizer", |xml| {
        within(xml, "Graphic", |xml| {
            within(xml, "Mark", |xml| {
                text(xml, "WellKnownName", shape)?;
                within(xml, "Fill", |xml| parameter(xml, "fill", &color.to_string()))?;
                within(xml, "Stroke", |xml| parameter(xml, "stroke", &PAPER.to_string()))
            })?;
            text(xml, "Size", &size.to_string())
        })
    })
}

fn label(xml: &mut Xml, column: &str, size: f64) -> Io {
    within(xml, "TextSymbolizer", |xml| {
        within(xml, "Label", |xml| text(xml, "ogc:PropertyName", column))?;
        within(xml, "Font", |xml| {
            parameter(xml, "font-family", "sans-serif")?;
            parameter(xml, "font-size", &size.to_string())
        })?;
        within(xml, "Halo", |xml| {
            text(xml, "Radius", "1.5")?;
            within(xml, "Fill", |xml| parameter(xml, "fill", &PAPER.to_string()))
        })?;
        within(xml, "Fill", |xml| parameter(xml, "fill", &INK.to_string()))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use quick_xml::Reader;
    use serde_json::json;

    fn of(styles: &Value, layer: &str) -> String {
        let all = documents(styles, 3).unwrap();
        let found = all.into_iter().find(|(name, _)| *name == layer).unwrap();
        String::from_utf8(found.1).unwrap()
    }

    #[test]
    fn every_document_is_well_formed_and_names_its_layer() {
        for (name, bytes) in documents(&Value::Null, 5).unwrap() {
            let mut reader = Reader::from_reader(bytes.as_slice());
            let (mut depth, mut buffer) = (0, Vec::new());
            loop {
                match reader.read_event_into(&mut buffer).unwrap() {
                    Event::Start(_) => depth += 1,
                    Event::End(_) => depth -= 1,
                    Event::Eof => break,
                    _ => {}
                }
            }
            assert_eq!(depth, 0, "{name}");
            assert!(String::from_utf8(bytes).unwrap().contains(&format!("<Name>{name}</Name>")));
        }
    }

    #[test]
    fn streams_come_up_by_order_in_the_colours_and_widths_that_were_chosen() {
        let styles = json!({ "streams": { "orders": { "2": { "color": "#AA0011", "width": 4.5 } }, "label": "area" } });
        let text = of(&styles, "reaches");
        assert_eq!(text.matches("<Rule>").count(), 3);
        let second = text.split("<Rule>").nth(2).unwrap();
        assert!(second.contains("<ogc:Literal>2</ogc:Literal>"), "{second}");
        assert!(second.contains("#AA0011") && second.contains(">4.5<"), "{second}");
        assert!(second.contains("contributing_area_km2"), "{second}");
        assert!(REACHES.column("contributing_area_km2").is_some() && REACHES.column("strahler").is_some());
    }

    #[test]
    fn sub_basins_come_up_in_six_colours() {
        let text = of(&Value::Null, "subbasins");
        assert_eq!(text.matches("<Rule>").count(), 6);
        assert!(text.contains("<ogc:PropertyName>colour</ogc:PropertyName>"), "{text}");
        assert!(SUBBASINS.column("colour").is_some() && text.contains(&BASIN_COLOURS[5].to_string()));
    }

    #[test]
    fn an_outline_alone_has_no_fill() {
        let outline =
            of(&json!({ "catchments": { "fill": "none", "dash": "dotted", "label": "" } }), "catchments");
        assert!(!outline.contains("fill-opacity") && outline.contains("1.5 4"), "{outline}");
        assert!(!outline.contains("TextSymbolizer"), "{outline}");
        assert!(of(&Value::Null, "catchments").contains("<CssParameter name=\"fill-opacity\">0.3"));
    }
}
