//! Help: what each stage is for, its words, its keys.

use askama::Template;
use axum::Extension;
use axum::extract::Path;
use axum::response::Response;

use crate::http::error::{Result, WebError};
use crate::http::security::Token;
use crate::ui::page;
use bothros_workflow::Stage;

/// Words of a topic with their meanings.
type Words = &'static [(&'static str, &'static str)];

const TOPICS: [(&str, &str, Words); 10] = [
    (
        "start",
        "A study is one piece of work on one area: a DEM, what was done to it, and what came out. Drop a DEM on the page to begin. \
         GeoTIFF and ASCII grid are read; a .prj may come along with the latter. Nothing leaves this machine.",
        &[
            ("DEM", "raster of ground elevation"),
            ("CRS", "coordinate reference system, told by its EPSG code"),
        ],
    ),
    (
        "batches",
        "A batch runs one recipe many times: over DEMs, thresholds, methods or pour points. Every combination of what varies is a run. Runs \
         wait in a queue and are done one after another by this server, and at the same time by every worker that is started elsewhere \
         with the address of the database. A run that fails stops no other. What was stopped is taken up again; what is done is not done \
         twice.",
        &[
            ("recipe", "a study’s steps and settings as a file; docs/recipe.md tells its keys"),
            ("run", "a recipe with its own values, and the files that it wrote"),
            ("worker", "a process that does runs and jobs: bothros worker --database ADDRESS"),
        ],
    ),
    (
        "recipes",
        "A recipe tells what is done to a DEM: how it is prepared and conditioned, how flow is routed, where streams begin, what is delineated          and handed over. One that is kept here lies apart from the studies: it stays as it is when they change. A new study takes it up, and          is told before what of it does not fit to its DEM.",
        &[
            ("recipe", "a study’s steps and settings as a file; docs/recipe.md tells its keys"),
            (
                "what it reads",
                "layers, rasters and sheets that the recipe names; the DEM is the new study’s own",
            ),
        ],
    ),
    (
        "service",
        "Scripts run recipes by OGC API - Processes. GET /service/api is its OpenAPI document. POST \
         /service/processes/recipe/execution with {\"inputs\": {\"recipe\": \"…\", \"files\": [{\"name\": \"dem.tif\", \"content\": \
         \"base 64\"}]}}, or {\"inputs\": {\"study\": 1, \"set\": {\"network.threshold\": {\"cells\": 500}}}}, starts a job; its address \
         comes as Location. GET tells its state, GET …/results what it wrote, DELETE stops or removes it. Each request carries \
         Authorization: Bearer and the token.",
        &[
            ("job", "a run that a script asked for; it is shown among the batches too"),
            ("token", "what lets scripts in; another one shuts out those who know the one before"),
        ],
    ),
    (
        "terrain",
        "Here the DEM is looked at: its CRS, cells, range and gaps, and what of that stands in the way of hydrology. What blocks the work \
         is listed first, with the action that mends it. Several files are put together into one DEM; several DEMs of the area are kept \
         side by side. Preparing always begins with the files as they were given; slope, topographic position and contours can be \
         added to the map.",
        &[
            ("cell size", "edge of a cell; cells are square after preparation"),
            ("footprint", "the cells that have an elevation"),
            ("seam", "the line along which two files of a DEM meet"),
            ("spike", "a single cell far above or below all that surrounds it"),
            (
                "topographic position",
                "elevation less the mean within a radius: high on ridges and banks, low in valleys",
            ),
            ("curvature", "how the ground bends along the fall line; convex is positive"),
            ("nodata", "a cell without elevation"),
            (
                "void",
                "nodata inside the terrain; water drains into it, as it does over any edge, unless it is filled",
            ),
            (
                "picture behind the map",
                "an aerial image or scanned map to judge by; a scan is placed by three points or more",
            ),
            ("residual", "how far a point lies from where the placing of its picture puts it"),
            (
                "resampling",
                "how elevations between cells are found: bilinear goes never beyond its neighbours, cubic keeps the shape of the ground",
            ),
        ],
    ),
    (
        "conditioning",
        "Raw DEMs are full of sinks. Most are noise; some are ponds behind a road or railway whose culvert the DEM does not know. Find \
         sinks and barriers first, walk through the proposed crossings with N and decide about each, then condition and route: voids, \
         local rebuilding, lakes, burning, walls, breach lines, closed basins, and what sinks are left. What was changed is measured.",
        &[
            (
                "barrier",
                "what blocks flow in the DEM but not in the field: mostly an embankment over a culvert",
            ),
            ("crossing", "the place where water passes a barrier"),
            ("breach line", "a line from upstream to downstream along which the ground is lowered"),
            ("wall", "a line along which the ground is raised so that no flow passes"),
            ("closed basin", "a sink that is real and is kept: a swallow hole, a quarry"),
            (
                "stream burning",
                "lowering the routing surface along mapped streams; elevations in results stay those of the ground",
            ),
            ("cut and fill", "conditioned minus original DEM: negative is cut, positive is fill"),
            (
                "area to rebuild",
                "its ground is made anew from elevation points, contour lines and breach lines",
            ),
            ("weights", "a raster (rain, runoff depth) that is accumulated along with the number of cells"),
            ("sink", "connected cells with no downhill way out"),
            ("spill level", "elevation at which a full sink overflows"),
            ("fill", "raise a sink to its spill level"),
            (
                "flat",
                "cells without a downhill neighbour after filling; flow goes away from higher and towards lower ground",
            ),
            ("flow direction", "the one of eight neighbours that a cell drains to (D8)"),
            ("flow accumulation", "number of cells upstream, the cell itself not counted"),
        ],
    ),
    (
        "network",
        "A stream begins where enough area has gathered. Move the threshold and watch the network: lower, and it reaches into every \
         hollow; higher, and only rivers are left. It starts where the drops of streams become constant. Hold it against mapped streams, keep trials, \
         compare them, choose one and say why.",
        &[
            ("threshold", "the contributing area at which a stream begins, unless more than area decides"),
            ("channel head", "where a channel begins, as seen in the field"),
            ("converging land", "land whose contours bend around a hollow"),
            ("contributing area", "(flow accumulation + 1) × cell area"),
            ("reach", "stream from one headwater or junction to the next junction or outlet"),
            (
                "agreement",
                "harmonic mean of the share of modelled length near mapped streams and of mapped length near modelled ones",
            ),
            ("tolerance", "how far apart two streams may lie and still be the same one"),
            (
                "constant drop",
                "constant stream drop: the mean drop of first-order streams does not differ from that of higher orders, |t| < 2",
            ),
            ("matched, extra, missed", "on both sides within the tolerance; modelled only; mapped only"),
            ("trial", "one network tried, with its scores, kept for comparison"),
            (
                "slope against area",
                "channels fall the less, the more they carry; where that begins, the relation bends",
            ),
            (
                "D-infinity, MFD",
                "flow divided between two, or among all lower neighbours; D8 joins the streams",
            ),
            (
                "bifurcation, length and area ratio",
                "number, mean length and mean area of streams from one order to the next (Horton)",
            ),
            ("overland flow length", "length of the path that water takes over land before it meets one"),
            (
                "height above the stream",
                "how far a cell lies above the stream cell that its flow meets first",
            ),
            (
                "wetness index",
                "ln(a / tan b): specific catchment area over slope; high where ground stays wet",
            ),
            ("stream power index", "a tan b: specific catchment area times slope; high where flow can erode"),
            ("Strahler order", "headwater reaches are 1; where two of the same order meet it rises by one"),
            ("drainage density", "stream length over area, km/km²"),
        ],
    ),
    (
        "catchments",
        "Press P and click on the map, or type coordinates. The pour point moves to the stream within the snapping distance; how far is \
         always shown. A catchment that reaches the edge of the DEM may be cut short, and says so.",
        &[
            ("pour point", "where a catchment is asked for"),
            (
                "snapping",
                "moving a pour point to the nearest stream cell, the largest contributing area, or the cell that fits a known area, within a distance",
            ),
            ("catchment", "all that drains to a pour point"),
            (
                "edge-touching",
                "a catchment that reaches the footprint's edge, so that its area may be cut short",
            ),
            ("sub-basin", "part of a catchment between an outlet and the next outlets upstream"),
            ("inflow", "a place where water enters a site or a reservoir"),
            (
                "realisation",
                "the DEM with another error of the kind that it has; shares of many are probabilities",
            ),
            (
                "width of a divide",
                "land that belongs to a catchment in 5 to 95 of 100 realisations, over the length of its outline",
            ),
            ("curve number", "runoff potential of land, 30 to 100 (NRCS); the lag equation needs it"),
        ],
    ),
    (
        "handover",
        "The package holds the conditioned DEM, flow directions and accumulation as cloud-optimised GeoTIFF, streams, main stems, catchments \
         and pour points as GeoPackage and GeoJSON, a table of the catchments, and a README that tells CRS, units, methods and settings.",
        &[
            ("main stem", "from the outlet upstream, at each junction the larger contributing area"),
            ("log", "the list of what was done, with settings, time taken and effect"),
        ],
    ),
    (
        "sheets",
        "A sheet is a page with maps of a study, laid out for print: what is seen is what will print. Choose a part on the page or in the \
         list; drag it, size it by its edges, or type its place. A map shows layers in the styles of the study’s own map, so that another \
         colour there is another colour here. Sheets follow the study: they are drawn anew whenever it changes.",
        &[
            (
                "key",
                "what signs mean; its entries follow what the maps show, and can be renamed, regrouped, moved and left out",
            ),
            ("guide", "a line on the page that parts snap to; it does not print"),
            ("grid", "eastings and northings of the CRS, 4 to 6 cm apart unless typed"),
            ("atlas", "a sheet once for each catchment, with an index before them, as one PDF"),
            ("rim of letters", "the light edge that keeps letters apart from the ground"),
            (
                "true north",
                "the way to the pole; the north of the grid differs from it by an angle that the north arrow tells",
            ),
        ],
    ),
];

pub const KEYS: [(&str, &str); 24] = [
    ("1 – 5", "stages"),
    ("U", "bring up to date: condition, route and accumulate anew"),
    ("B", "draw a breach line"),
    ("M", "measure: draw a line; its length, the ground along it, and the area it holds where it is closed"),
    ("D", "follow a drop: click a place; the way of the water from there, and the ground along it"),
    ("Y, I, K, R", "the crossing that is shown: breach, fill, keep, draw otherwise"),
    ("Delete", "while layers are edited: delete the chosen feature"),
    ("P", "place a pour point: click on the map or press Enter at its centre"),
    ("[ and ]", "threshold one step down and up; with Shift ten"),
    ("N, Shift+N", "next and previous finding"),
    ("C", "compare the trials that are ticked"),
    ("=", "a raster from a formula: open and close; Ctrl+Space offers names, Tab takes one"),
    ("T", "tables of the stage: open and close; up and down go from row to row, Enter goes there"),
    (", and .", "section of the desk before and after"),
    ("0, Z, V", "the whole study; zoom to a box that is drawn; the view before"),
    ("O", "the view in three dimensions: open and close"),
    ("F", "fold the desk away"),
    ("L", "unfold the log"),
    ("/", "go to a coordinate or a pour point"),
    ("X", "copy the coordinates of the cell under the pointer"),
    ("Ctrl+Z", "undo"),
    ("Arrows, + and −", "move and zoom the map, when it has the focus"),
    ("Esc", "leave what was begun"),
    ("?", "this help"),
];

/// Keys of the page on which a sheet is laid out.
pub const SHEET_KEYS: [(&str, &str); 6] = [
    ("Arrows", "move the chosen part by 1 mm; with Shift 10 mm, with Ctrl its size"),
    ("M", "move the ground under the chosen map: drag, wheel, arrows; Shift and drag fits a box"),
    ("Delete", "take the chosen part off the page"),
    ("Ctrl+Z", "undo"),
    ("Esc", "leave what was begun"),
    ("?", "this help"),
];

#[derive(Template)]
#[template(path = "shell/help.html")]
struct Help {
    title: &'static str,
    text: &'static str,
    words: Words,
    keys: &'static [(&'static str, &'static str)],
}

pub async fn help(Path(topic): Path<String>) -> Result<Response> {
    let found =
        TOPICS.iter().find(|t| t.0 == topic).ok_or_else(|| WebError::nothing("there is no help on this"))?;
    let (title, keys): (_, &[_]) = match topic.as_str() {
        "start" => ("Studies", &[]),
        "sheets" => ("Map sheets", &SHEET_KEYS),
        "batches" => ("Batches", &[]),
        "recipes" => ("Recipes", &[]),
        "service" => ("A service for scripts", &[]),
        topic => (Stage::from_key(topic).map_or("Studies", Stage::title), &KEYS),
    };
    page(&Help { title, text: found.1, words: found.2, keys })
}

#[derive(Template)]
#[template(path = "shell/licences.html")]
struct Licences {
    token: Token,
    licences: Vec<(String, String)>,
}

pub async fn licences(Extension(token): Extension<Token>) -> Result<Response> {
    page(&Licences { token, licences: crate::http::assets::licences() })
}
