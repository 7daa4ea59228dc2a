//! What was tried, and what it rests on.

use crate::Quantity::{Bytes, Count, Density, Identifier, Length, Order, Share, SmallArea, Text};
use crate::{Column, Table};

/// Networks that were tried.
pub const TRIALS: Table = Table {
    name: "trials",
    title: "Trials",
    meaning: "A network that was tried, with its scores.",
    shape: None,
    columns: &[
        Column::new("trial", "Trial", Text, "Name of the trial.").primary(),
        Column::new(
            "threshold_m2",
            "Threshold",
            SmallArea,
            "Where streams begin: contributing area, unless begins_by says what stands in its place.",
        ),
        Column::new("cells", "Cells", Count, "The threshold in cells."),
        Column::new("dem", "DEM", Text, "The DEM it was drawn on."),
        Column::new("cell_size_m", "Cell size", Length, "Edge of a cell of that DEM."),
        Column::new("routing", "Routing", Text, "How flow was routed."),
        Column::new("begins_by", "Streams begin by", Text, "What the threshold is held against."),
        Column::new("tolerance_m", "Tolerance", Length, "Within which modelled and mapped streams agree."),
        Column::new(
            "correctness",
            "Matched",
            Share,
            "Share of the modelled length that is matched (Heipke et al. 1997).",
        )
        .nullable(),
        Column::new(
            "completeness",
            "Found",
            Share,
            "Share of the mapped length that is found (Heipke et al. 1997).",
        )
        .nullable(),
        Column::new("agreement", "Agreement", Share, "Harmonic mean of correctness and completeness.")
            .nullable(),
        Column::new("mean_distance_m", "Distance", Length, "Mean distance of matched streams.").nullable(),
        Column::new("length_m", "Length", Length, "Length of all reaches."),
        Column::new("density_km_km2", "Density", Density, "Drainage density."),
        Column::new("headwaters", "Headwaters", Count, "Number of headwaters."),
        Column::new("highest_order", "Order", Order, "Highest Strahler order."),
        Column::new(
            "overland_flow_m",
            "Overland flow",
            Length,
            "Mean overland flow length to the first stream cell.",
        )
        .nullable(),
        Column::new("remark", "Remark", Text, "What the analyst says of it."),
        Column::new(
            "justification",
            "Justification",
            Text,
            "Why it became the study's network; none otherwise.",
        )
        .nullable(),
    ],
};

/// What the short names of Shapefiles stand for.
pub const SHAPEFILE_FIELDS: Table = Table {
    name: "shapefile_fields",
    title: "Shapefile fields",
    meaning: "A field of a Shapefile, and the column that it holds.",
    shape: None,
    columns: &[
        Column::new("layer", "Layer", Text, "Layer, and part of the name of its file."),
        Column::new("field", "Field", Text, "Name in the Shapefile, ten characters at most."),
        Column::new("column", "Column", Text, "Name everywhere else."),
    ],
};

/// Every input: what it is, where it comes from, and its checksum.
pub const PROVENANCE: Table = Table {
    name: "provenance",
    title: "Provenance",
    meaning: "An input: what it is, where it comes from, and its checksum.",
    shape: None,
    columns: &[
        Column::new("input_id", "Input", Identifier, "Number of the input.").primary(),
        Column::new("input", "Input", Text, "What it is to the study."),
        Column::new("file", "File", Text, "Name of the file."),
        Column::new("source", "Source", Text, "Who made it."),
        Column::new("date", "Date", Text, "When it was surveyed or published."),
        Column::new("scale", "Scale", Text, "Its scale or resolution."),
        Column::new("licence", "Licence", Text, "On what terms it may be used."),
        Column::new(
            "vertical_datum",
            "Vertical datum",
            Text,
            "What heights of a DEM are counted from, as it was stated.",
        ),
        Column::new("bytes", "Size", Bytes, "Size of the file in bytes, where it is known.").nullable(),
        Column::new("sha256", "SHA-256", Text, "Checksum of the file, hexadecimal."),
    ],
};
