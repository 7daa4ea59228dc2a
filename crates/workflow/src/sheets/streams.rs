//! Streams on a sheet, as the map draws them: by order, magnitude or area.

use bothros_core::network::{Network, Reach};
use bothros_core::{Cell, Frame, Grid, Threshold};
use bothros_products::Units;
use bothros_sheets::{Colour as Ink, Entry, Layer, Sample, Stroke};
use serde_json::Value;

use super::features::{Features, PAPER, WATER, entry, ink, label_of, line, meets, stroke};
use super::filled::{Looked, SheetSources};
use crate::study::style::STREAMS;
use crate::{OrderStyle, Result, VectorStyle, blocking, order_styles, vector_style};

/// Streams by what is not their order: from light to dark.
const TONES: [u32; 6] = [0x7FB7BC, 0x4E969D, 0x2B7A82, 0x0F5C63, 0x0A454B, 0x062F34];

/// How streams are drawn, beside colours and widths.
pub(super) struct StreamLook {
    by: By,
    from: u8,
    least: bool,
    label: String,
    style: VectorStyle,
    orders: Vec<OrderStyle>,
}

#[derive(Clone, Copy, PartialEq)]
enum By {
    Order,
    Magnitude,
    Area,
}

impl StreamLook {
    pub fn of(styles: &Value, highest: u8, labels: Option<&str>) -> Option<Self> {
        let own = &styles[STREAMS];
        let style = vector_style(styles, STREAMS)?;
        let by = match own["by"].as_str() {
            Some("magnitude") => By::Magnitude,
            Some("area") => By::Area,
            _ => By::Order,
        };
        let from = own["from"].as_u64().and_then(|n| u8::try_from(n).ok()).unwrap_or(1);
        let least = own["least"].as_bool().unwrap_or(true);
        let label =
            labels.map_or(style.label.clone(), |l| if l == "none" { String::new() } else { l.to_owned() });
        Some(Self { by, from, least, label, style, orders: order_styles(styles, highest.max(1)) })
    }

    /// Rank of a stream, from 1, by what is not its order: it makes width and tone, as on the map.
    fn rank(&self, magnitude: u32, m2: f64, cell_m2: f64) -> f64 {
        match self.by {
            By::Magnitude => 1.0 + f64::from(magnitude.max(1)).log2() / 1.6,
            _ => 1.0 + ((m2 / (cell_m2 * 100.0)).log10() * 1.2).max(0.0),
        }
    }

    fn stroke(&self, order: u8, rank: f64) -> Stroke {
        let dash = self.style.dash.pattern();
        match self.by {
            By::Order => {
                let of = self.orders[usize::from(order.max(1) - 1).min(self.orders.len() - 1)];
                stroke(ink(of.color), of.width, dash)
            }
            _ => stroke(tone(rank), 0.9 + 0.75 * (rank - 1.0), dash),
        }
    }
}

fn tone(rank: f64) -> Ink {
    let hex = TONES[(rank.round() as usize).min(TONES.len() - 1)];
    Ink([(hex >> 16) as u8, (hex >> 8) as u8, hex as u8])
}

fn centre(frame: &Frame, index: u32) -> [f64; 2] {
    frame.centre(Cell { row: index as usize / frame.cols, col: index as usize % frame.cols }).into()
}

impl SheetSources<'_> {
    /// The network of a study.
    pub(super) async fn streams(&self, looked: &Looked, units: Units) -> Result<Features> {
        let facts = &looked.facts;
        let (Some(terrain), Some(found)) = (&facts.terrain, facts.network) else {
            return Ok(Features::default());
        };
        let (network, index) = self.grids.indexed(self.store, facts, found.threshold).await?;
        let grids = self.grids.get(self.store, facts).await?;
        let frame = terrain.frame;
        let labels = looked.streams.clone();
        let Some(look) = StreamLook::of(&facts.settings.style, found.highest_order, labels.as_deref()) else {
            return Ok(Features::default());
        };
        let ground = looked.view.ground();
        let threshold = found.threshold;
        blocking(move || {
            let shown = Streams { network: &network, below: grids.below_edge(), frame, threshold, ground };
            Ok(shown.drawn(&look, Some(&index.boxes), units))
        })
        .await
    }
}

/// A network as it is drawn.
pub(super) struct Streams<'a> {
    pub network: &'a Network,
    /// cells that land beyond the DEM may drain to
    pub below: &'a Grid<bool>,
    pub frame: Frame,
    pub threshold: Threshold,
    /// what is seen: west, south, east, north
    pub ground: [f64; 4],
}

impl Streams<'_> {
    /// The box around a reach: first row and column, last row and column.
    fn box_of(&self, reach: &Reach) -> [u32; 4] {
        let cols = self.frame.cols as u32;
        let none = [u32::MAX, u32::MAX, 0, 0];
        reach.cells.iter().fold(none, |[r0, c0, r1, c1], &cell| {
            let (r, c) = (cell / cols, cell % cols);
            [r0.min(r), c0.min(c), r1.max(r), c1.max(c)]
        })
    }

    /// Its lines; `boxes` are those around its reaches, where they are known.
    pub fn drawn(&self, look: &StreamLook, boxes: Option<&[[u32; 4]]>, units: Units) -> Features {
        let Self { network, below, ref frame, threshold, ground } = *self;
        let cell_m2 = frame.cell_area().as_m2();
        let seen = |(n, reach): &(usize, &Reach)| {
            let [r0, c0, r1, c1] = boxes.map_or_else(|| self.box_of(reach), |boxes| boxes[*n]);
            let cols = frame.cols as u32;
            let near = [centre(frame, r0 * cols + c0), centre(frame, r1 * cols + c1)];
            reach.strahler >= look.from && meets(&near, ground)
        };
        let mut reaches: Vec<&Reach> =
            network.reaches.iter().enumerate().filter(seen).map(|(_, reach)| reach).collect();
        // Larger streams lie over smaller ones.
        reaches.sort_by(|a, b| a.contributing.as_m2().total_cmp(&b.contributing.as_m2()));
        let (mut lines, mut hearts) = (Vec::new(), Vec::new());
        for reach in reaches {
            let points: Vec<[f64; 2]> = reach.line().map(|cell| centre(frame, cell)).collect();
            let m2 = reach.contributing.as_m2();
            let drawn = look.stroke(reach.strahler, look.rank(reach.shreve, m2, cell_m2));
            let text = match look.label.as_str() {
                "order" => reach.strahler.to_string(),
                "magnitude" => reach.shreve.to_string(),
                "area" => units.area(m2),
                "id" => reach.id.to_string(),
                _ => String::new(),
            };
            if look.least && reach.cells.last().is_some_and(|&cell| below.values()[cell as usize]) {
                let thin = (drawn.width_px * 0.4).max(0.7);
                hearts.push(line(points.clone(), stroke(PAPER, thin, &[thin, 5.0 * thin + 3.0]), None));
            }
            lines.push(line(points, drawn, label_of(&look.style, text, m2)));
        }
        let least = !hearts.is_empty();
        lines.extend(hearts);
        let mut entries: Vec<Entry> = match look.by {
            By::Order => look
                .orders
                .iter()
                .filter(|of| of.order >= look.from)
                .map(|of| {
                    let sample =
                        Sample::Lines(vec![stroke(ink(of.color), of.width, look.style.dash.pattern())]);
                    entry(
                        &format!("streams-{}", of.order),
                        format!("Order {} (Strahler)", of.order),
                        "Streams",
                        sample,
                    )
                })
                .collect(),
            by => {
                let words = if by == By::Area { "Contributing area" } else { "Shreve magnitude" };
                let ends = vec!["small".to_owned(), "large".to_owned()];
                let colours = (0..6).map(|i| tone(f64::from(i))).collect();
                vec![entry("streams", words, "Streams", Sample::Ramp { colours, ends })]
            }
        };
        if least {
            let sample = Sample::Lines(vec![stroke(WATER, 2.4, &[]), stroke(PAPER, 1.0, &[1.0, 8.0])]);
            entries.push(entry("streams-least", "area at least: land beyond the DEM", "Streams", sample));
        }
        let m2 = threshold.as_area(frame).as_m2();
        let words = format!("Streams begin at {}", units.area(m2));
        if look.label.is_empty() && look.by == By::Order && entries.is_empty() {
            entries.push(entry("streams", words, "Streams", Sample::Lines(vec![stroke(WATER, 1.0, &[])])));
        }
        Features { layers: vec![Layer::Features(lines)], entries }
    }
}
