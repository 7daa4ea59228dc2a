//! The features of a collection, and one feature.

use axum::extract::{Path, State};
use axum::http::{HeaderValue, StatusCode};
use axum::response::Response;
use bothros_formats::{GeoJsonShape, Geometry, Transform, Value as Cell};
use bothros_products::Column;
use serde_json::{Map, Value, json};

use super::answer::{Answered, Fault, Form, GEOJSON, HTML, JSON, answer, link, short};
use super::call::Call;
use super::collections::{CRS84, Collection, Reference, converted, find};
use super::page::{Entry, Page, page};
use super::shapes::{Bounds, meets, near};
use crate::App;

/// Features on a page, unless more or fewer are asked for.
pub const USUAL: usize = 100;
/// Features on a page at most.
pub const MOST: usize = 10_000;

/// What of a collection is asked for.
struct Asked<'a> {
    form: Form,
    limit: usize,
    offset: usize,
    /// boxes, and whether they are in longitude and latitude
    boxes: Option<(Vec<Bounds>, bool)>,
    crs: Reference,
    filters: Vec<(usize, &'a str)>,
}

/// Whether a text is a point in time, or an interval whose ends may be open (RFC 3339).
fn is_time(text: &str) -> bool {
    let instant = |t: &str| {
        let t = t.trim();
        chrono::DateTime::parse_from_rfc3339(t).is_ok() || t.parse::<chrono::NaiveDate>().is_ok()
    };
    let end = |t: &str| t.is_empty() || t == ".." || instant(t);
    match text.split_once('/') {
        Some((from, to)) => {
            let open = |t: &str| t.is_empty() || t == "..";
            end(from) && end(to) && !(open(from) && open(to))
        }
        None => instant(text),
    }
}

/// The boxes of `bbox`: west, south, east, north, perhaps with heights; one across the 180th meridian is two.
pub fn boxes(text: &str, geographic: bool, northing_first: bool) -> Result<Vec<Bounds>, Fault> {
    let sides: Result<Vec<f64>, _> = text.split(',').map(|t| t.trim().parse::<f64>()).collect();
    let sides = sides.ok().filter(|s| s.iter().all(|v| v.is_finite()));
    let mut b = match sides.as_deref() {
        Some(&[w, s, e, n] | &[w, s, _, e, n, _]) => [w, s, e, n],
        _ => return Err(Fault::wrong("bbox is four numbers, or six with heights, apart by commas")),
    };
    if northing_first {
        b = [b[1], b[0], b[3], b[2]];
    }
    if b[1] > b[3] {
        return Err(Fault::wrong("bbox must have its lower side before its upper"));
    }
    match (b[0] <= b[2], geographic) {
        (true, _) => Ok(vec![b]),
        (false, true) => Ok(vec![[b[0], b[1], 180.0, b[3]], [-180.0, b[1], b[2], b[3]]]),
        (false, false) => Err(Fault::wrong("bbox must have its western side before its eastern")),
    }
}

impl<'a> Asked<'a> {
    fn of(call: &'a Call, of: &Collection) -> Result<Self, Fault> {
        let mut filters = Vec::new();
        for (name, value) in &call.given {
            match name.as_str() {
                "f" | "limit" | "offset" | "bbox" | "bbox-crs" | "crs" | "datetime" => {}
                name => match of.table.columns.iter().position(|c| c.name == name) {
                    Some(at) => filters.push((at, value.as_str())),
                    None => return Err(Fault::wrong(format!("there is no parameter {}", short(name)))),
                },
            }
        }
        let count = |name: &str, usual: usize, least: usize| match call.one(name)? {
            None => Ok(usual),
            Some(text) => match text.parse::<usize>() {
                Ok(n) if n >= least => Ok(n),
                _ => Err(Fault::wrong(format!(
                    "{name} is a whole number from {least} on, not {}",
                    short(text)
                ))),
            },
        };
        if let Some(text) = call.one("datetime")?.filter(|t| !is_time(t)) {
            return Err(Fault::wrong(format!("datetime is a time or an interval, not {}", short(text))));
        }
        let bbox_crs = Reference::of(call.one("bbox-crs")?, &of.crs)?;
        let geographic = bbox_crs.uri == CRS84;
        let boxes = match call.one("bbox")? {
            None => None,
            Some(text) => Some((boxes(text, geographic, bbox_crs.northing_first)?, geographic)),
        };
        Ok(Self {
            form: call.form()?,
            // More than is given at once is no fault: the greatest page is given then.
            limit: count("limit", USUAL, 1)?.min(MOST),
            offset: count("offset", 0, 0)?,
            boxes,
            crs: Reference::of(call.one("crs")?, &of.crs)?,
            filters,
        })
    }

    /// The features that are asked for, by their places in the layer.
    fn found(&self, of: &Collection) -> Result<Vec<usize>, Fault> {
        let fits = |at: &usize| {
            let row = &of.layer.features[*at].1;
            self.filters.iter().all(|&(column, text)| is_value(&row[column], text))
        };
        let all = 0..of.layer.features.len();
        let Some((boxes, geographic)) = &self.boxes else { return Ok(all.filter(fits).collect()) };
        if !geographic {
            let meets = |at: &usize| {
                boxes.iter().any(|b| near(b, &of.boxes[*at]) && meets(&of.layer.features[*at].0, b))
            };
            return Ok(all.filter(|at| fits(at) && meets(at)).collect());
        }
        // Features that cannot be there are left out by a box in the study's own CRS, where there is one.
        let wgs84 = bothros_formats::Crs::parse("EPSG:4326")?;
        let (back, to) = (Transform::new(&wgs84, &of.crs)?, Transform::to_wgs84(&of.crs)?);
        let rough: Vec<Option<Bounds>> = boxes
            .iter()
            .map(|b| {
                let found = converted(b, &back).ok()?;
                let more = 0.05 * (found[2] - found[0]).max(found[3] - found[1]);
                Some([found[0] - more, found[1] - more, found[2] + more, found[3] + more])
            })
            .collect();
        let mut out = Vec::new();
        for at in all.filter(fits) {
            let maybe = rough.iter().any(|r| r.is_none_or(|r| near(&r, &of.boxes[at])));
            if maybe {
                let shape = of.layer.features[at].0.converted(&to)?;
                if boxes.iter().any(|b| meets(&shape, b)) {
                    out.push(at);
                }
            }
        }
        Ok(out)
    }
}

/// Whether a value is the one that a text names.
fn is_value(value: &Cell, text: &str) -> bool {
    match value {
        Cell::Null => text.is_empty(),
        Cell::Integer(v) => text.parse::<f64>().is_ok_and(|t| t == *v as f64),
        Cell::Real(v) => text.parse::<f64>().is_ok_and(|t| t == *v),
        Cell::Text(v) => v == text,
        Cell::Boolean(v) => text == v.to_string(),
    }
}

fn plain(value: &Cell) -> Value {
    match value {
        Cell::Null => Value::Null,
        Cell::Integer(v) => json!(v),
        Cell::Real(v) => json!(v),
        Cell::Text(v) => json!(v),
        Cell::Boolean(v) => json!(v),
    }
}

/// A feature as GeoJSON.
fn told(of: &Collection, at: usize, crs: &Reference) -> Result<Value, Fault> {
    let (shape, row): &(Geometry, Vec<Cell>) = &of.layer.features[at];
    let properties: Map<String, Value> =
        of.table.columns.iter().zip(row).map(|(c, v)| (c.name.to_owned(), plain(v))).collect();
    Ok(json!({
        "type": "Feature",
        "id": of.id(at),
        "geometry": GeoJsonShape::of(crs.shape(shape)?).tidied(crs.digits, crs.northing_first),
        "properties": properties,
    }))
}

/// An answer in GeoJSON that tells its CRS.
fn in_crs(body: &Value, crs: &Reference) -> Response {
    let mut response = answer(StatusCode::OK, GEOJSON, body);
    if let Ok(value) = HeaderValue::from_str(&format!("<{}>", crs.uri)) {
        response.headers_mut().insert("content-crs", value);
    }
    response
}

fn cell_text(value: &Cell) -> String {
    match plain(value) {
        Value::Null => String::new(),
        Value::String(text) => text,
        other => other.to_string(),
    }
}

/// The features of a collection.
pub async fn items(State(app): State<App>, Path((study, name)): Path<(i64, String)>, call: Call) -> Answered {
    let facts = app.facts(study).await?;
    let own = format!("{}/collections/{name}/items", call.root(study));
    let of = find(&app, &facts, &name).await?;
    let made = bothros_workflow::blocking(move || {
        let answered = || -> Answered {
            let asked = Asked::of(&call, &of)?;
            let found = asked.found(&of)?;
            let from = asked.offset.min(found.len());
            let to = from.saturating_add(asked.limit).min(found.len());
            let f = if asked.form == Form::Html { "html" } else { "json" };
            let next = (to < found.len()).then(|| call.at_offset(&own, to, f));
            let earlier = from.saturating_sub(asked.limit);
            let previous = (from > 0).then(|| call.at_offset(&own, earlier, f));
            if asked.form == Form::Html {
                let row = |&at: &usize| {
                    let first = Entry::new(format!("{own}/{}?f=html", of.id(at)), &of.id(at).to_string());
                    let cells = of.layer.features[at].1.iter().map(|v| Entry::text(&cell_text(v)));
                    std::iter::once(first).chain(cells).collect()
                };
                let heads = of.table.columns.iter().map(|c| c.name.to_owned());
                return page(Page {
                    title: of.table.title.to_owned(),
                    about: format!("{} to {} of {}", (from + 1).min(to), to, found.len()),
                    json: call.at_offset(&own, from, "json"),
                    up: Some((
                        format!("{}?f=html", own.trim_end_matches("/items")),
                        "About these features".into(),
                    )),
                    heads: std::iter::once("feature".to_owned()).chain(heads).collect(),
                    rows: found[from..to].iter().map(row).collect(),
                    previous,
                    next,
                    ..Page::default()
                });
            }
            let features = found[from..to].iter().map(|&at| told(&of, at, &asked.crs));
            let features = features.collect::<Result<Vec<_>, _>>()?;
            let mut links = vec![
                link("self", call.at_offset(&own, from, "json"), GEOJSON, "This document"),
                link("alternate", call.at_offset(&own, from, "html"), HTML, "This document as a page"),
            ];
            links.extend(next.map(|href| link("next", href, GEOJSON, "The next page")));
            links.extend(previous.map(|href| link("prev", href, GEOJSON, "The page before")));
            let body = json!({
                "type": "FeatureCollection",
                "timeStamp": chrono::Utc::now().format("%Y-%m-%dT%H:%M:%SZ").to_string(),
                "numberMatched": found.len(),
                "numberReturned": to - from,
                "features": features,
                "links": links,
            });
            Ok(in_crs(&body, &asked.crs))
        };
        Ok(answered())
    });
    made.await?
}

/// One feature.
pub async fn feature(
    State(app): State<App>,
    Path((study, name, id)): Path<(i64, String, String)>,
    call: Call,
) -> Answered {
    let facts = app.facts(study).await?;
    let own = format!("{}/collections/{name}", call.root(study));
    let of = find(&app, &facts, &name).await?;
    let form = call.form_of(&["crs"])?;
    let crs = Reference::of(call.one("crs")?, &of.crs)?;
    let at = id.parse::<i64>().ok().and_then(|id| (0..of.layer.features.len()).find(|&at| of.id(at) == id));
    let at = at.ok_or_else(|| Fault::nothing(format!("there is no feature {}", short(&id))))?;
    if form == Form::Html {
        let row = |(c, v): (&Column, &Cell)| {
            vec![Entry::text(c.title), Entry::text(&cell_text(v)), Entry::text(c.quantity.unit().symbol())]
        };
        return page(Page {
            title: format!("{} {id}", of.table.title),
            json: format!("{own}/items/{id}?f=json"),
            up: Some((format!("{own}/items?f=html"), of.table.title.into())),
            heads: ["property", "value", "unit"].map(str::to_owned).into(),
            rows: of.table.columns.iter().zip(&of.layer.features[at].1).map(row).collect(),
            ..Page::default()
        });
    }
    let mut body = told(&of, at, &crs)?;
    body["links"] = json!([
        link("self", format!("{own}/items/{id}?f=json"), GEOJSON, "This document"),
        link("alternate", format!("{own}/items/{id}?f=html"), HTML, "This document as a page"),
        link("collection", format!("{own}?f=json"), JSON, of.table.title),
    ]);
    Ok(in_crs(&body, &crs))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("2026-11-28T10:00:00Z", true)]
    #[case("2026-11-28", true)]
    #[case("2026-11-28T10:00:00Z/..", true)]
    #[case("/2026-11-28T10:00:00Z", true)]
    #[case("../..", false)]
    #[case("yesterday", false)]
    #[case("2026-13-01", false)]
    fn times_and_intervals_are_told_from_other_texts(#[case] text: &str, #[case] expected: bool) {
        assert_eq!(is_time(text), expected);
    }

    #[rstest]
    #[case("1,2,3,4", Some(vec![[1.0, 2.0, 3.0, 4.0]]))]
    #[case("1,2,0,3,4,9", Some(vec![[1.0, 2.0, 3.0, 4.0]]))]
    #[case("170,-10,-170,10", Some(vec![[170.0, -10.0, 180.0, 10.0], [-180.0, -10.0, -170.0, 10.0]]))]
    #[case("1,4,3,2", None)]
    #[case("1,2,3", None)]
    #[case("1,2,3,nan", None)]
    #[case("a,b,c,d", None)]
    fn boxes_are_read(#[case] text: &str, #[case] expected: Option<Vec<Bounds>>) {
        assert_eq!(boxes(text, true, false).ok(), expected);
    }
}
