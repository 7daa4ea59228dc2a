//! An atlas: a sheet once for each catchment, with an index sheet before them, as one PDF.

use std::time::Instant;

use bothros_core::Monitor;
use bothros_sheets::{
    About, Drawing, Fit, GeoReference, Layout, Pages, Part, Rect, Sheet, Text, View, What, begin,
    georeferenced,
};
use bothros_store::{FileRole, JobHandle, JobKind, Kept, LogLine, PourPoint, Record, Store, Versioned, kept};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::filled::{SheetSources, laid};
use super::kept::sheet;
use super::written::made;
use crate::{Calibration, Error, Facts, GridCache, LayerCache, Result, Stage, boxed};

/// Which sheet, and how finely its pictures are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
struct AtlasChoice {
    sheet: i64,
    dpi: f64,
}

impl Versioned for AtlasChoice {
    const WHAT: &'static str = "which atlas is written";
}

/// More sheets than this are no atlas anybody turns over.
const MOST: usize = 1000;

/// The pour points that have a catchment with an outline.
async fn catchments(store: &Store, study: i64) -> Result<Vec<PourPoint>> {
    let all = store.pour_points(study).await?;
    Ok(all.into_iter().filter(|p| p.catchment.is_some() && p.outline.is_some()).collect())
}

/// Asks for an atlas of a sheet to be written.
///
/// # Errors
/// [`Error::Refused`] where there is no catchment, or more than an atlas holds; [`Error::Sheets`] for a resolution that
/// cannot be written; [`bothros_store::Error::Busy`] where a job runs.
#[boxed]
pub async fn start_atlas(store: &Store, study: i64, id: i64, dpi: f64) -> Result<()> {
    if !(30.0..=1200.0).contains(&dpi) {
        return Err(bothros_sheets::Error::Resolution { dpi }.into());
    }
    sheet(store, study, id).await?;
    match catchments(store, study).await?.len() {
        0 => {
            return Err(Error::Refused(
                "an atlas has a sheet for each catchment: add pour points first".into(),
            ));
        }
        n if n > MOST => {
            return Err(Error::Refused(format!(
                "the study has {n} catchments, and an atlas holds {MOST} sheets: delete pour points, or copy the study and keep those that the atlas is for"
            )));
        }
        _ => {}
    }
    let change = store.change(study).await?;
    change.commit(Record::job(JobKind::Atlas, Kept::of(&AtlasChoice { sheet: id, dpi })?)).await?;
    Ok(())
}

/// The sheet of one catchment: its maps look at it, and show it alone where the sheet shows one alone.
fn of_catchment(template: &Sheet, point: i64) -> Sheet {
    let mut own = template.clone();
    for part in &mut own.parts {
        if let What::Frame(frame) = &mut part.what
            && frame.locates.is_none()
            && frame.shown.study.is_none()
        {
            frame.fit = Fit::Catchment { point };
            frame.alone = frame.alone.map(|_| point);
        }
    }
    // A title that says nothing of the catchment would be the same on every sheet.
    let told = own.parts.iter().any(|part| match &part.what {
        What::Title(text) | What::Text(text) => text.text.contains("{catchment}"),
        _ => false,
    });
    if !told
        && let Some(text) = own.parts.iter_mut().find_map(|part| match &mut part.what {
            What::Title(text) => Some(text),
            _ => None,
        })
    {
        text.text.push_str(" – {catchment}");
    }
    own
}

/// Lines of the list of an index sheet in one column, columns, and letters of it, points.
const LINES: usize = 48;
const COLUMNS: usize = 3;
const LETTERS_PT: f64 = 8.0;

/// The sheets before those of the catchments: where they lie, and a list of them.
fn index(template: &Sheet, points: &[PourPoint], first: usize) -> Result<Vec<Sheet>> {
    let mut overview = begin(
        Layout::One,
        template.page,
        &["relief", "catchments", "streams"].map(String::from),
        Default::default(),
        1.0,
    )?;
    for part in &mut overview.parts {
        match &mut part.what {
            What::Title(text) => text.text = "{study}: index of sheets".into(),
            // It is the place of all, and needs no smaller map.
            What::Frame(frame) if frame.locates.is_some() => part.hidden = true,
            _ => {}
        }
    }
    let lines: Vec<String> = points
        .iter()
        .enumerate()
        .map(|(n, p)| format!("{} {} · page {}", n + 1, p.name, first + n))
        .collect();
    let (width, height) = template.page.mm()?;
    let margin = 12.0f64.min(width.min(height) * 0.06);
    let (room, gap) = (width - 2.0 * margin, 5.0);
    let column = (room - gap * (COLUMNS - 1) as f64) / COLUMNS as f64;
    let line = LETTERS_PT * 25.4 / 72.0 * 1.25;
    let fits = (((height - 3.0 * margin - 14.0) / line) as usize).clamp(1, LINES);
    let mut out = vec![overview];
    for page in lines.chunks(fits * COLUMNS) {
        let text = |text: String, size_pt, bold| Text { text, size_pt, bold, middle: false };
        let at = Rect { x: margin, y: margin, width: room, height: 12.0 };
        let title = What::Title(text("{study}: list of sheets".into(), 16.0, true));
        let mut parts = vec![Part { id: 1, at, hidden: false, what: title }];
        for (n, lines) in page.chunks(fits).enumerate() {
            let at = Rect {
                x: margin + (column + gap) * n as f64,
                y: margin + 16.0,
                width: column,
                height: height - 2.0 * margin - 16.0,
            };
            let what = What::Text(text(lines.join("\n"), LETTERS_PT, false));
            parts.push(Part { id: n as u32 + 2, at, hidden: false, what });
        }
        out.push(Sheet { page: template.page, parts, together: false, guides: Default::default() });
    }
    Ok(out)
}

/// How many sheets stand before those of the catchments.
fn index_pages(template: &Sheet, points: &[PourPoint]) -> Result<usize> {
    Ok(index(template, points, 1)?.len())
}

pub(crate) async fn run(
    store: &Store,
    grids: &GridCache,
    study: i64,
    asked: &Json,
    handle: &JobHandle,
) -> Result<String> {
    let begun = Instant::now();
    let asked: AtlasChoice = kept::read(asked.clone())?;
    let template = sheet(store, study, asked.sheet).await?;
    let facts = Facts::of(&store.study(study).await?)?;
    let points = catchments(store, study).await?;
    let (layers, calibration) = (LayerCache::default(), Calibration::default());
    let from = SheetSources { store, grids, layers: &layers, calibration: &calibration, maps: None };
    let before = index_pages(&template.sheet, &points)?;
    let mut sheets = index(&template.sheet, &points, before + 1)?;
    sheets.extend(points.iter().map(|point| of_catchment(&template.sheet, point.id)));
    // Pages are written on a thread of their own while the next is laid out; two wait at most.
    let (to, mut waiting) = tokio::sync::mpsc::channel::<Drawing>(1);
    let about = About { title: format!("{}: {}", facts.name, template.name), made: made() };
    let writer = tokio::spawn(crate::blocking(move || {
        let mut pages = Pages::new(about)?;
        while let Some(drawing) = waiting.blocking_recv() {
            pages.add(&drawing)?;
        }
        Ok(pages.finish()?)
    }));
    let mut places: Vec<(f64, Vec<(View, GeoReference)>)> = Vec::new();
    let mut complaints = 0;
    let count = sheets.len();
    for (n, sheet) in sheets.iter().enumerate() {
        if handle.is_cancelled() {
            return Err(bothros_core::Error::Cancelled.into());
        }
        handle.say(&format!("sheet {} of {count}", n + 1));
        handle.progress(0.95 * n as f64 / count as f64);
        let all = Box::pin(laid(from, study, sheet, asked.dpi)).await?;
        complaints += usize::from(!all.complaints.is_empty());
        let geo = all.frames.iter().filter_map(|(_, view, geo)| Some((*view, geo.clone()?))).collect();
        places.push((all.drawing.page.1, geo));
        if to.send(all.drawing).await.is_err() {
            // The writer has given up, and says why.
            break;
        }
    }
    drop(to);
    handle.say("writing the file");
    let bytes = writer.await.map_err(std::io::Error::other)??;
    let bytes = crate::blocking(move || Ok(georeferenced(&bytes, &places)?)).await?;
    let dir = tempfile::tempdir()?;
    let path = dir.path().join("atlas.pdf");
    tokio::fs::write(&path, &bytes).await?;
    let name = format!("{}_atlas.pdf", facts.short_name());
    let change = store.change(study).await?;
    let file = change.put_file(FileRole::Atlas, &name, &path).await?;
    let faults = match complaints {
        0 => String::new(),
        n => format!("; on {n} of them something does not fit: open such a sheet to see what"),
    };
    let told = format!(
        "Wrote {} ({:.1} MB): {count} sheets, {} of catchments{faults}",
        file.name,
        file.bytes as f64 / 1e6,
        points.len()
    );
    change
        .commit(Record::log(LogLine::new(Stage::Handover.title(), told.clone()).taking(begun.elapsed())))
        .await?;
    Ok(told)
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_sheets::{Page, PageSize};

    fn point(id: i64) -> PourPoint {
        PourPoint {
            id,
            study_id: 1,
            name: format!("Point {id}"),
            x: 0.0,
            y: 0.0,
            snap_m: 0.0,
            snap_to: "largest".into(),
            catchment: None,
            outline: None,
            problem: None,
            deleted_at: None,
        }
    }

    #[test]
    fn every_catchment_has_its_line_in_the_index_with_the_page_it_stands_on() {
        let page = Page { size: PageSize::A4, across: true };
        let template = begin(Layout::One, page, &["relief".into()], Default::default(), 1.0).unwrap();
        let points: Vec<PourPoint> = (1..=300).map(point).collect();
        let before = index_pages(&template, &points).unwrap();
        let sheets = index(&template, &points, before + 1).unwrap();
        assert_eq!(sheets.len(), before);
        let text: String = sheets[1..]
            .iter()
            .flat_map(|s| &s.parts)
            .filter_map(|part| match &part.what {
                What::Text(text) => Some(format!("{}\n", text.text)),
                _ => None,
            })
            .collect();
        assert_eq!(text.lines().count(), 300);
        assert_eq!(text.lines().next(), Some(format!("1 Point 1 · page {}", before + 1).as_str()));
        assert_eq!(text.lines().last(), Some(format!("300 Point 300 · page {}", before + 300).as_str()));
        sheets.iter().try_for_each(Sheet::check).unwrap();
    }

    #[test]
    fn the_maps_of_a_catchment_look_at_it_and_its_title_names_it() {
        let page = Page { size: PageSize::A3, across: false };
        let template = begin(Layout::Two, page, &["relief".into()], Default::default(), 1.0).unwrap();
        let own = of_catchment(&template, 7);
        let fits: Vec<Fit> = own.frames().filter(|(_, f)| f.locates.is_none()).map(|(_, f)| f.fit).collect();
        assert_eq!(fits, [Fit::Catchment { point: 7 }, Fit::Catchment { point: 7 }]);
        assert!(own.frames().any(|(_, f)| f.locates.is_some() && f.fit == Fit::Study));
        assert!(matches!(&own.parts[0].what, What::Title(t) if t.text == "{study} – {catchment}"));
        assert_eq!(of_catchment(&own, 8).parts[0].what, own.parts[0].what, "it is named once");
    }
}
