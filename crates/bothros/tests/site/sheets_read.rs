//! Map sheets as other programs read them: poppler, MuPDF, GDAL, an XML reader; and what cannot be a sheet.

use std::path::Path;
use std::process::Command;

use reqwest::StatusCode;
use reqwest::multipart::{Form, Part};
use rstest::rstest;
use serde_json::{Value, json};

use crate::support::{Site, add_layer, geojson, python, valley_file};

/// What a program says of files.
fn said(program: &str, arguments: &[&str]) -> String {
    let out = Command::new(program).args(arguments).output().unwrap_or_else(|e| panic!("{program}: {e}"));
    assert!(out.status.success(), "{program}: {}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).into_owned()
}

/// A wall of a kilometre, from west to east.
const WALL: [[f64; 2]; 2] = [[501_500.0, 4_758_500.0], [502_500.0, 4_758_500.0]];

/// A sheet that shows it at 1:20 000 on A4.
async fn sheet(site: &Site) -> (i64, i64) {
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    site.send(&format!("/studies/{study}/threshold"), &[("cells", "300")]).await;
    add_layer(site, study, "walls", &[("wall.geojson", geojson(&[&WALL]))]).await;
    let new = [
        ("name", "Wall"),
        ("layout", "one"),
        ("size", "a4"),
        ("across", "yes"),
        ("layers", "shade,relief,streams,features"),
    ];
    let answer = site.post(&format!("/studies/{study}/sheets")).form(&new).send().await.unwrap();
    let to = answer.headers()["hx-redirect"].to_str().unwrap().to_owned();
    let sheet: i64 = to.rsplit('/').next().unwrap().parse().unwrap();
    let map = map(site, study, sheet).await["id"].clone();
    let look = [
        ("fit", "place"),
        ("east", "502000"),
        ("north", "4758500"),
        ("denominator", "20000"),
        ("grid", "lines"),
    ];
    let (status, told) =
        site.send(&format!("/studies/{study}/sheets/{sheet}/parts/{map}/choices"), &look).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    (study, sheet)
}

async fn map(site: &Site, study: i64, sheet: i64) -> Value {
    let state = site.json(&format!("/studies/{study}/sheets/{sheet}/state")).await;
    state["parts"].as_array().unwrap().iter().find(|p| p["kind"] == "map").unwrap().clone()
}

async fn fetched(site: &Site, study: i64, sheet: i64, format: &str, dpi: u32, to: &Path) -> String {
    let answer = site.get(&format!("/studies/{study}/sheets/{sheet}/file/{format}?dpi={dpi}")).await;
    assert_eq!(answer.status(), StatusCode::OK);
    let path = to.join(format!("sheet.{format}"));
    std::fs::write(&path, answer.bytes().await.unwrap()).unwrap();
    path.to_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn other_programs_read_a_sheet_as_it_was_meant() {
    let site = Site::new().await;
    let (study, sheet) = sheet(&site).await;
    let frame = map(&site, study, sheet).await;
    let mm = |name: &str| frame[name].as_f64().unwrap();
    let dir = tempfile::tempdir().unwrap();
    let pdf = fetched(&site, study, sheet, "pdf", 150, dir.path()).await;

    // Poppler: size of the page (ISO 216: 297 x 210 mm), tags, fonts, text, resolution of pictures.
    let info = said("pdfinfo", &[&pdf]);
    let line =
        |name: &str| info.lines().find_map(|l| l.strip_prefix(name)).unwrap_or_default().trim().to_owned();
    assert!(line("Page size:").starts_with("841.89 x 595.2"), "{info}");
    assert_eq!(
        (line("Tagged:"), line("Title:"), line("Pages:")),
        ("yes".into(), "Sorrel Water".into(), "1".into()),
        "{info}"
    );
    let fonts = said("pdffonts", &[&pdf]);
    let rows: Vec<&str> = fonts.lines().skip(2).collect();
    assert_eq!(rows.len(), 2, "{fonts}");
    // Columns: name, type, encoding, embedded, subset, text can be found.
    assert!(rows.iter().all(|r| r.contains("SourceSans3") && r.contains(" yes yes yes ")), "{fonts}");
    let text = said("pdftotext", &["-layout", &pdf, "-"]).replace('\u{202F}', " ");
    for words in ["Sorrel Water", "Order 1 (Strahler)", "Elevation", "Walls", "EPSG:32628", "1:20 000 on A4"]
    {
        assert!(text.contains(words), "{words}: {text}");
    }
    assert_eq!(text.matches("Order 1 (Strahler)").count(), 1, "rims of letters are no words");
    let images = said("pdfimages", &["-list", &pdf]);
    let ppi: Vec<f64> =
        images.lines().skip(2).filter_map(|l| l.split_whitespace().nth(12)?.parse().ok()).collect();
    assert!(!ppi.is_empty() && ppi.iter().all(|p| (p - 150.0).abs() <= 1.0), "{images}");
    // pdfua: rules of PDF/UA-1.
    assert_eq!(python("accessible.py", &[&pdf]).trim(), "sound");
    // MuPDF: the same text.
    let other = said("mutool", &["draw", "-q", "-F", "txt", &pdf]);
    assert!(other.contains("Sorrel Water") && other.contains("Order 1 (Strahler)"), "{other}");
    // GDAL: where the page lies. The map's middle is at the place that was typed, and 20 m are a millimetre.
    let told: Value = serde_json::from_str(&said("gdalinfo", &["-json", &pdf])).unwrap();
    let place: Vec<f64> =
        told["geoTransform"].as_array().unwrap().iter().map(|v| v.as_f64().unwrap()).collect();
    let width = told["size"][0].as_f64().unwrap();
    let metres_a_mm = place[1] * width / 297.0;
    assert!((metres_a_mm - 20.0).abs() < 0.02, "{metres_a_mm}");
    let (x, y) = (mm("x") + mm("width") / 2.0, mm("y") + mm("height") / 2.0);
    let at = (place[0] + x * metres_a_mm, place[3] - y * metres_a_mm);
    assert!((at.0 - 502_000.0).abs() < 2.0 && (at.1 - 4_758_500.0).abs() < 2.0, "{at:?}");
    assert!(told["coordinateSystem"]["wkt"].as_str().unwrap().contains("UTM zone 28N"));

    // SVG: well formed, and a line of a known length measured on the page; grid lines where round coordinates are.
    let svg = std::fs::read_to_string(fetched(&site, study, sheet, "svg", 100, dir.path()).await).unwrap();
    let read = roxmltree::Document::parse(&svg).unwrap();
    let paths: Vec<(String, Vec<[f64; 2]>)> = read
        .descendants()
        .filter(|n| n.has_tag_name("path"))
        .filter_map(|n| Some((n.attribute("stroke")?.to_owned(), points(n.attribute("d")?))))
        .collect();
    let wall =
        paths.iter().find(|(colour, line)| colour == "#7A3B2E" && line[1][0] - line[0][0] > 20.0).unwrap();
    let length = (wall.1[1][0] - wall.1[0][0]).hypot(wall.1[1][1] - wall.1[0][1]);
    assert!((length / 50.0 - 1.0).abs() < 0.001, "{length} mm for a kilometre at 1:20 000");
    let upright: Vec<f64> = paths
        .iter()
        .filter(|(_, l)| l.len() == 2 && l[0][0] == l[1][0] && (l[1][1] - l[0][1]).abs() > 100.0)
        .map(|(_, l)| 502_000.0 + (l[0][0] - x) * 20.0)
        .collect();
    assert!(upright.len() >= 3, "{upright:?}");
    assert!(upright.iter().all(|e| (e / 1000.0 - (e / 1000.0).round()).abs() < 1e-4), "{upright:?}");

    // PNG: size and resolution.
    let png = fetched(&site, study, sheet, "png", 120, dir.path()).await;
    let told: Value = serde_json::from_str(&said("gdalinfo", &["-json", &png])).unwrap();
    assert_eq!(told["size"], json!([1403, 992]), "297 x 210 mm at 120 dots an inch");
}

fn points(d: &str) -> Vec<[f64; 2]> {
    let numbers: Vec<f64> = d
        .split(|c: char| c.is_alphabetic() || c == ' ')
        .filter(|t| !t.is_empty())
        .map(|t| t.parse().unwrap())
        .collect();
    numbers.chunks_exact(2).map(|p| [p[0], p[1]]).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_a_sheet_is_refused_and_nothing_changes() {
    let site = Site::new().await;
    let (study, sheet) = sheet(&site).await;
    let base = format!("/studies/{study}/sheets/{sheet}");
    let frame = map(&site, study, sheet).await;
    let part = format!("{base}/parts/{}", frame["id"]);
    let before = site.json(&format!("{base}/state")).await;
    for (path, form, expected) in [
        (
            format!("{part}/choices"),
            vec![("fit", "place"), ("east", "1"), ("north", "1"), ("denominator", "0")],
            "shows nothing",
        ),
        (
            format!("{part}/choices"),
            vec![("fit", "place"), ("east", "1"), ("north", "1"), ("denominator", "1")],
            "shows nothing",
        ),
        (
            format!("{part}/choices"),
            vec![("fit", "place"), ("east", "NaN"), ("north", "1"), ("denominator", "9000")],
            "must be a number",
        ),
        (format!("{part}/choices"), vec![("ink", "1000")], "cannot be read"),
        (format!("{part}/choices"), vec![("interval_e", "-5"), ("interval_n", "")], "greater than 0"),
        (format!("{part}/choices"), vec![("grid", "cobweb")], "must be one of"),
        (
            format!("{part}/place"),
            vec![("x", "10"), ("y", "10"), ("width", "1e400"), ("height", "9")],
            "must be a number",
        ),
        (format!("{part}/layer"), vec![("layer", "dragons"), ("to", "on")], "has not got this layer"),
        (format!("{part}/look"), vec![("nearer", "0")], "factor"),
        (
            format!("{base}/page"),
            vec![("size", "free"), ("width", "0"), ("height", "100")],
            "cannot be printed",
        ),
        (format!("{base}/page"), vec![("size", "b5")], "must be one of"),
        (format!("{base}/guides"), vec![("points", "{")], "cannot be read"),
        (format!("{base}/parts"), vec![("kind", "dragon")], "must be one of"),
        (format!("{base}/parts/99/delete"), vec![], "no part 99"),
        (format!("{base}/rename"), vec![("name", "  ")], "give the sheet a name"),
        (format!("{base}/atlas"), vec![("dpi", "300")], "add pour points first"),
        (format!("/studies/{study}/sheets/copy"), vec![("from", "x.y")], "choose the sheet"),
    ] {
        let (status, told) = site.send(&path, &form).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{path} {form:?}: {told}");
        assert!(told.contains(expected), "{path} {form:?}: {told}");
    }
    let refused = site.get(&format!("{base}/file/pdf?dpi=5")).await;
    assert_eq!(refused.status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(site.get(&format!("{base}/file/docx")).await.status(), StatusCode::NOT_FOUND);
    let form = Form::new().part("file", Part::bytes(b"none".to_vec()).file_name("x.png"));
    let answer = site.post(&format!("{part}/picture")).multipart(form).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(site.json(&format!("{base}/state")).await["parts"], before["parts"]);
}

#[rstest]
#[case(&[("fit", "place"), ("east", "900000"), ("north", "4758500"), ("denominator", "20000")], "outside the DEM")]
#[case(&[("alone", "77")], "a catchment alone that is gone")]
#[tokio::test(flavor = "multi_thread")]
async fn a_map_that_shows_nothing_says_so(#[case] form: &[(&str, &str)], #[case] expected: &str) {
    let site = Site::new().await;
    let (study, sheet) = sheet(&site).await;
    let base = format!("/studies/{study}/sheets/{sheet}");
    let part = map(&site, study, sheet).await["id"].clone();
    let (status, told) = site.send(&format!("{base}/parts/{part}/choices"), form).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    let told = site.json(&format!("{base}/preview.svg?dpi=30&check=true")).await;
    assert!(told["complaints"].to_string().contains(expected), "{told}");
    assert_eq!(site.get(&format!("{base}/file/svg?dpi=40")).await.status(), StatusCode::OK);
}
