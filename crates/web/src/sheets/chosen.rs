//! What was chosen of a part of a sheet.

use axum::extract::{Path, State};
use axum::response::Response;
use bothros_sheets::{BarUnit, Fit, Frame, Key, Part, Sheet, Text, View, What};
use bothros_workflow::{change_sheet, sheet};
use serde::Deserialize;

use super::CHANGED;
use super::change::looks;
use super::part::{GRID_LABELS, GRIDS, STREAM_LABELS};
use crate::App;
use crate::http::changed::changed;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::ui::form::{choice, number};

/// What is chosen of a part; fields that are not sent stay as they are.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub struct Chosen {
    text: Option<String>,
    size_pt: Option<String>,
    bold: Option<String>,
    middle: Option<String>,
    heading: Option<String>,
    unit: Option<String>,
    frame: Option<String>,
    study: Option<String>,
    dem: Option<String>,
    trial: Option<String>,
    fit: Option<String>,
    east: Option<String>,
    north: Option<String>,
    denominator: Option<String>,
    alone: Option<String>,
    ink: Option<String>,
    rim: Option<String>,
    grid: Option<String>,
    interval_e: Option<String>,
    interval_n: Option<String>,
    grid_labels: Option<String>,
    labels: Option<String>,
    label_size: Option<String>,
    halo: Option<String>,
    streams: Option<String>,
}

fn optional(text: &Option<String>, what: &str) -> Result<Option<f64>> {
    match text.as_deref().map(str::trim) {
        None | Some("") => Ok(None),
        Some(text) => number(text, what).map(Some),
    }
}

/// A number of a row of the database; nothing for an empty choice.
fn id_of(text: &str) -> Result<Option<i64>> {
    match text.trim() {
        "" => Ok(None),
        text => text.parse().map(Some).map_err(|_| WebError::refused("choose one of the list")),
    }
}

const UNITS: [(&str, BarUnit); 2] = [("metric", BarUnit::Metric), ("customary", BarUnit::Customary)];

impl Chosen {
    fn text(&self, text: &mut Text) -> Result<()> {
        if let Some(told) = &self.text {
            text.text = told.replace("\r\n", "\n");
        }
        if let Some(size) = optional(&self.size_pt, "the size of letters")? {
            text.size_pt = size;
        }
        text.bold = self.bold.as_deref().map_or(text.bold, |b| b == "yes");
        text.middle = self.middle.as_deref().map_or(text.middle, |b| b == "yes");
        Ok(())
    }

    fn key(&self, key: &mut Key) -> Result<()> {
        if let Some(heading) = &self.heading {
            key.heading = heading.trim().chars().take(120).collect();
        }
        if let Some(size) = optional(&self.size_pt, "the size of letters")? {
            key.size_pt = size;
        }
        if let Some(unit) = &self.unit {
            key.unit = choice("the units", unit, &UNITS)?;
        }
        Ok(())
    }

    fn frame(&self, frame: &mut Frame, own: i64) -> Result<()> {
        if let Some(study) = &self.study {
            let chosen = id_of(study)?.filter(|id| *id != own);
            if chosen != frame.shown.study {
                // What belonged to the other study means nothing here.
                (frame.shown.study, frame.shown.trial, frame.alone) = (chosen, None, None);
                frame.shown.candidate = None;
                frame.fit = Fit::Study;
            }
        }
        if let Some(dem) = &self.dem {
            frame.shown.candidate = id_of(dem)?;
        }
        if let Some(trial) = &self.trial {
            frame.shown.trial = id_of(trial)?;
        }
        if let Some(alone) = &self.alone {
            frame.alone = id_of(alone)?;
        }
        if let Some(ink) = optional(&self.ink, "the size of lines and marks")? {
            frame.ink = ink;
        }
        frame.rim = self.rim.as_deref().map_or(frame.rim, |b| b == "yes");
        if let Some(grid) = &self.grid {
            frame.grid.style = choice("the grid", grid, &GRIDS.map(|(key, _, style)| (key, style)))?;
        }
        if let Some(labels) = &self.grid_labels {
            frame.grid.labels =
                choice("its labels", labels, &GRID_LABELS.map(|(key, _, place)| (key, place)))?;
        }
        if self.interval_e.is_some() {
            frame.grid.interval[0] = optional(&self.interval_e, "the interval of eastings")?;
        }
        if self.interval_n.is_some() {
            frame.grid.interval[1] = optional(&self.interval_n, "the interval of northings")?;
        }
        frame.labels.on = self.labels.as_deref().map_or(frame.labels.on, |b| b == "yes");
        if let Some(size) = optional(&self.label_size, "the size of labels")? {
            frame.labels.size = size;
        }
        if let Some(halo) = optional(&self.halo, "the rim around letters")? {
            frame.labels.halo_mm = halo;
        }
        if let Some(streams) = &self.streams {
            let known = choice("the labels of streams", streams, &STREAM_LABELS.map(|(key, _)| (key, key)))?;
            frame.labels.streams = Some(known.to_owned()).filter(|k| !k.is_empty());
        }
        Ok(())
    }
}

/// Changes a part.
pub async fn change(
    State(app): State<App>,
    Path((study, id, part)): Path<(i64, i64, u32)>,
    Form(form): Form<Chosen>,
) -> Result<Response> {
    let kept = sheet(&app.store, study, id).await?;
    let mut now = kept.sheet;
    let own = now.part_mut(part).map_err(|e| WebError::refused(e.to_string()))?;
    let at = own.at;
    let mut looks_at: Option<View> = None;
    match &mut own.what {
        What::Title(text) | What::Text(text) | What::Source(text) => form.text(text)?,
        What::Key(key) => form.key(key)?,
        What::Bar { frame, unit } => {
            if let Some(chosen) = &form.frame {
                *frame = id_of(chosen)?.and_then(|id| u32::try_from(id).ok()).unwrap_or(*frame);
            }
            if let Some(chosen) = &form.unit {
                *unit = choice("the units", chosen, &UNITS)?;
            }
        }
        What::North { frame } => {
            if let Some(chosen) = &form.frame {
                *frame = id_of(chosen)?.and_then(|id| u32::try_from(id).ok()).unwrap_or(*frame);
            }
        }
        What::Logo { .. } => {}
        What::Frame(frame) => {
            form.frame(frame, study)?;
            match form.fit.as_deref() {
                None => {}
                Some("study") => frame.fit = Fit::Study,
                Some("place") => {
                    let typed = |text: &Option<String>, what: &str| -> Result<f64> {
                        optional(text, what)?.ok_or_else(|| WebError::refused(format!("type {what}")))
                    };
                    looks_at = Some(View {
                        frame: at,
                        x: typed(&form.east, "the easting in the middle")?,
                        y: typed(&form.north, "the northing in the middle")?,
                        denominator: typed(&form.denominator, "the scale, 1 to what")?,
                        unit_m: 1.0,
                    });
                }
                Some(point) => {
                    let point =
                        id_of(point)?.ok_or_else(|| WebError::refused("choose what the map looks at"))?;
                    frame.fit = Fit::Catchment { point };
                }
            }
        }
    }
    if let Some(view) = looks_at {
        view.check().map_err(|e| WebError::refused(e.to_string()))?;
        looks(&mut now, part, &view).map_err(WebError::from)?;
    } else if now.together && form.fit.is_some() {
        share_fit(&mut now, part);
    }
    change_sheet(&app.store, study, id, "part changed", move |sheet| {
        // Only this part: others may have been changed meanwhile.
        let together = sheet.together;
        for one in &mut sheet.parts {
            let Some(new) = now.parts.iter().find(|p| p.id == one.id) else { continue };
            match (&mut one.what, &new.what) {
                (what, new) if one.id == part => *what = new.clone(),
                (What::Frame(frame), What::Frame(new)) if together => frame.fit = new.fit,
                _ => {}
            }
        }
        Ok(())
    })
    .await?;
    Ok(changed(CHANGED))
}

/// Where maps keep together, all are fitted to what one of them is.
fn share_fit(sheet: &mut Sheet, part: u32) {
    let fit = sheet.parts.iter().find(|p| p.id == part).and_then(Part::frame).map(|f| (f.fit, f.locates));
    let Some((fit, None)) = fit else { return };
    for one in &mut sheet.parts {
        if let What::Frame(frame) = &mut one.what
            && frame.locates.is_none()
        {
            frame.fit = fit;
        }
    }
}
