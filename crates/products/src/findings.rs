//! What the stages find: sinks, crossings, shortfalls, totals by order. They stand on screens, and can be taken from there
//! as CSV.

use crate::Quantity::{
    Area, Count, Depth, Drop, Elevation, Flag, Identifier, Length, Order, Rain, Ratio, SmallArea, Text,
    Volume,
};
use crate::{Column, Table};

/// Sinks, the largest by volume first.
pub const SINKS: Table = Table {
    name: "sinks",
    title: "Sinks",
    meaning: "Connected cells with no downhill way out.",
    shape: None,
    columns: &[
        Column::new("sink_id", "Sink", Identifier, "Number of the sink, from the largest volume down.")
            .primary(),
        Column::new("bottom_m", "Bottom", Elevation, "Elevation of its deepest cell."),
        Column::new("depth_m", "Depth", Depth, "Greatest depth below its spill level."),
        Column::new("area_m2", "Area", SmallArea, "Area of the cells below its spill level."),
        Column::new("volume_m3", "Volume", Volume, "Volume below its spill level."),
        Column::new(
            "runoff_mm",
            "Runoff to fill",
            Rain,
            "Depth of runoff from all that drains there that would fill it.",
        )
        .nullable(),
    ],
};

/// Places where water probably passes a barrier.
pub const CROSSINGS: Table = Table {
    name: "crossings",
    title: "Crossings",
    meaning: "A place where water probably passes a barrier.",
    shape: None,
    columns: &[
        Column::new(
            "crossing_id",
            "Crossing",
            Identifier,
            "Number of the crossing, the highest score first.",
        )
        .primary(),
        Column::new(
            "score",
            "Score",
            Ratio,
            "How much speaks for a barrier there, from 0 to 1; no probability.",
        ),
        Column::new("height_m", "Height", Depth, "Height of the crest above the higher of its feet."),
        Column::new("width_m", "Width", Depth, "Width of what stands above a quarter of its height."),
        Column::new("sink_volume_m3", "Holds", Volume, "Volume of the sink that it holds."),
        Column::new("contributing_area_km2", "Drains", Area, "Contributing area of that sink."),
        Column::new(
            "culvert_m",
            "Culvert at",
            Length,
            "Distance to the nearest known culvert, where one is near.",
        )
        .nullable(),
        Column::new(
            "stream_m",
            "Stream at",
            Length,
            "Distance to the nearest mapped stream, where one is near.",
        )
        .nullable(),
        Column::new("decision", "Decision", Text, "One of breach, fill, keep; none while it is open.")
            .nullable(),
        Column::new("found", "Found", Flag, "Whether the last search found it."),
    ],
};

/// Stretches where modelled and mapped streams do not agree.
pub const SHORTFALLS: Table = Table {
    name: "shortfalls",
    title: "Shortfalls",
    meaning: "A stretch of stream that is modelled only, or mapped only.",
    shape: None,
    columns: &[
        Column::new("shortfall_id", "Shortfall", Identifier, "Number of the stretch, the longest first.")
            .primary(),
        Column::new("side", "Side", Text, "One of extra (modelled only), missed (mapped only)."),
        Column::new("length_m", "Length", Length, "Its length."),
        Column::new(
            "contributing_area_km2",
            "Drains",
            Area,
            "Largest contributing area along it, within the tolerance.",
        ),
        Column::new("reason", "Probably", Text, "Why, as far as it is known."),
        Column::new("verdict", "Decision", Text, "What the analyst decided; none while it is open.")
            .nullable(),
        Column::new("remark", "Remark", Text, "What the analyst says of it.").nullable(),
    ],
};

/// Totals of the streams of each order.
pub const ORDERS: Table = Table {
    name: "orders",
    title: "By order",
    meaning: "The streams of one Strahler order.",
    shape: None,
    columns: &[
        Column::new("strahler", "Order", Order, "Strahler order.").primary(),
        Column::new("streams", "Streams", Count, "Number of streams: reaches of one order in a row are one."),
        Column::new("reaches", "Reaches", Count, "Number of reaches."),
        Column::new("length_m", "Length", Length, "Length of all."),
        Column::new("mean_length_m", "Mean length", Length, "Mean length of a stream."),
        Column::new("mean_drop_m", "Mean drop", Drop, "Mean fall of a stream."),
        Column::new("mean_area_km2", "Mean area", Area, "Mean contributing area at the lower ends."),
    ],
};
