//! Fetching pictures from the servers that are allowed, and laying them onto a study's grid.

use std::sync::Arc;
use std::time::Duration;

use bothros_formats::{Crs, Picture, Transform, lay_onto};
use futures::{StreamExt, TryStreamExt, stream};
use moka::future::Cache;
use reqwest::{Client, StatusCode};
use tokio::sync::OnceCell;
use url::Url;

use crate::levels::{Extent, Level, fitting};
use crate::unpack::unpack;
use crate::wmts::MatrixSet;
use crate::{Access, Error, MapServer, Result, boxed, wms, wmts};

/// How long a server may take for one answer.
const PATIENCE: Duration = Duration::from_secs(20);
/// The largest answer that is read, bytes.
const MOST_BYTES: usize = 8 << 20;
/// Unpacked pictures that are kept in memory, bytes.
const ROOM: u64 = 96 << 20;
/// How long a picture is cached.
const FRESH: Duration = Duration::from_secs(24 * 3600);
/// Requests to one server at a time.
const AT_ONCE: usize = 6;
/// Edge of the largest picture that is asked for, pixels.
const LARGEST: usize = 2048;
/// Pixels between places that are converted to find what a picture covers.
const STEP: usize = 16;

/// What a server has told of itself.
#[derive(Debug)]
enum Told {
    /// levels in Web Mercator
    Mercator(Vec<Level>),
    /// CRSs that pictures can be drawn in
    Systems(Vec<String>),
    /// sets of levels
    Sets(Vec<MatrixSet>),
}

/// The map servers that are allowed. Nothing else is ever asked, whatever an answer says.
#[derive(Debug, Clone)]
pub struct Maps {
    servers: Arc<Vec<(MapServer, OnceCell<Told>)>>,
    http: Client,
    pieces: Cache<String, Arc<Picture>>,
}

impl Maps {
    /// The maps of a list. Servers are asked when a map is first drawn.
    ///
    /// # Errors
    /// [`Error::Config`] where no connection can be prepared.
    pub fn new(servers: Vec<MapServer>) -> Result<Self> {
        // It fails only where that has been said before.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let http = Client::builder()
            .timeout(PATIENCE)
            // An answer must not lead to another host.
            .redirect(reqwest::redirect::Policy::none())
            .user_agent(concat!("Bothros/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| Error::Config(e.to_string()))?;
        let pieces = Cache::builder()
            .weigher(|key: &String, picture: &Arc<Picture>| (key.len() + picture.pixels.len()) as u32)
            .max_capacity(ROOM)
            .time_to_live(FRESH)
            .build();
        let servers = servers.into_iter().map(|server| (server, OnceCell::new())).collect();
        Ok(Self { servers: Arc::new(servers), http, pieces })
    }

    /// The maps, in the order of the list.
    pub fn servers(&self) -> impl Iterator<Item = &MapServer> {
        self.servers.iter().map(|(server, _)| server)
    }

    /// Map number `at` (from 0) north up over `extent` (west, south, east, north) of `crs`, in `(width, height)` pixels: red,
    /// green, blue, opacity of each, row by row from the upper left. Where the map ends all is 0.
    ///
    /// # Errors
    /// [`Error::Unknown`], [`Error::Silent`], [`Error::Refused`], [`Error::Odd`], [`Error::Place`].
    #[boxed]
    pub async fn picture(
        &self,
        at: usize,
        crs: &Crs,
        extent: Extent,
        size: (usize, usize),
    ) -> Result<Vec<u8>> {
        let (server, told) = self.servers.get(at).ok_or(Error::Unknown)?;
        let told = told.get_or_try_init(|| self.ask_what_it_has(server)).await?;
        let onto = Onto { crs, extent, size };
        match (told, &server.access) {
            (Told::Systems(systems), Access::Wms { url, layer }) => {
                let own = crs.epsg.map(|code| format!("EPSG:{code}")).filter(|code| systems.contains(code));
                match own {
                    Some(own) => {
                        self.drawn_as_asked(server, wms::picture(url, layer, &own, extent, size), size).await
                    }
                    None => self.drawn_in_mercator(server, (url, layer), &onto).await,
                }
            }
            (Told::Mercator(levels), _) => {
                self.laid_tiles(server, &mercator(server)?, levels, None, &onto).await
            }
            (Told::Sets(sets), _) => {
                // In the study's own CRS where there is one.
                let own = sets.iter().find(|s| s.crs.epsg.is_some() && s.crs.epsg == crs.epsg);
                let set =
                    own.or(sets.first()).ok_or_else(|| self.odd(server, "levels in a CRS with lengths"))?;
                self.laid_tiles(server, &set.crs, &set.levels, Some(set), &onto).await
            }
            (Told::Systems(_), _) => Err(Error::Unknown),
        }
    }

    /// A picture drawn by the server in the CRS and size required.
    async fn drawn_as_asked(&self, server: &MapServer, asked: Url, size: (usize, usize)) -> Result<Vec<u8>> {
        let piece = self.piece(server, asked).await?.ok_or_else(|| self.odd(server, "a picture"))?;
        match (piece.width, piece.height) == size {
            true => Ok(piece.pixels.clone()),
            false => Err(self.odd(server, "a picture of the size that was asked for")),
        }
    }

    /// A picture drawn by the server in Web Mercator, warped to the CRS required.
    async fn drawn_in_mercator(
        &self,
        server: &MapServer,
        (url, layer): (&Url, &str),
        onto: &Onto<'_>,
    ) -> Result<Vec<u8>> {
        let from = mercator(server)?;
        let ([west, south, east, north], resolution) = covered(onto, &from).map_err(|e| place(server, e))?;
        let pixels = |low: f64, high: f64| (((high - low) / resolution).ceil() as usize).clamp(1, LARGEST);
        let size = (pixels(west, east), pixels(south, north));
        let asked = wms::picture(url, layer, "EPSG:3857", [west, south, east, north], size);
        let piece = self.piece(server, asked).await?.ok_or_else(|| self.odd(server, "a picture"))?;
        let (wide, high) = ((east - west) / piece.width as f64, (north - south) / piece.height as f64);
        onto.lay(&piece, [west, wide, 0.0, north, 0.0, -high], &from).map_err(|e| place(server, e))
    }

    /// The tiles needed, warped to the CRS required.
    async fn laid_tiles(
        &self,
        server: &MapServer,
        from: &Crs,
        levels: &[Level],
        set: Option<&MatrixSet>,
        onto: &Onto<'_>,
    ) -> Result<Vec<u8>> {
        let (covered, resolution) = covered(onto, from).map_err(|e| place(server, e))?;
        let Some((level, tiles)) = fitting(levels, covered, resolution) else {
            return Ok(vec![0; onto.size.0 * onto.size.1 * 4]);
        };
        let wanted: Vec<(usize, usize)> =
            tiles.rows.clone().flat_map(|row| tiles.cols.clone().map(move |col| (col, row))).collect();
        let fetched: Vec<Tile> = stream::iter(wanted)
            .map(|at| async move {
                let address = self.tile_address(server, set, level, at)?;
                Ok::<_, Error>((at, self.piece(server, address).await?))
            })
            .buffer_unordered(AT_ONCE)
            .try_collect()
            .await?;
        let (col, row) = (*tiles.cols.start(), *tiles.rows.start());
        let sheet =
            Sheet { corner: (col, row), tiles: (tiles.cols.count(), tiles.rows.count()), edge: level.tile };
        let sheet = sheet.of(fetched).ok_or_else(|| self.odd(server, "tiles of the size that it tells"))?;
        let [left, top] = level.corner(col, row);
        let geo_transform = [left, level.resolution, 0.0, top, 0.0, -level.resolution];
        onto.lay(&sheet, geo_transform, from).map_err(|e| place(server, e))
    }

    fn odd(&self, server: &MapServer, wanted: &'static str) -> Error {
        Error::Odd { name: server.name.clone(), wanted }
    }

    fn tile_address(
        &self,
        server: &MapServer,
        set: Option<&MatrixSet>,
        level: &Level,
        (col, row): (usize, usize),
    ) -> Result<Url> {
        match (&server.access, set) {
            (Access::Xyz { url, .. }, _) => {
                let [x, y] = [col, row].map(|n| n.to_string());
                let address = url.replace("{z}", &level.identifier).replace("{x}", &x).replace("{y}", &y);
                Url::parse(&address).map_err(|_| self.odd(server, "an address"))
            }
            (Access::Wmts { url, layer }, Some(set)) => Ok(wmts::tile(url, layer, set, level, (col, row))),
            _ => Err(Error::Unknown),
        }
    }

    async fn ask_what_it_has(&self, server: &MapServer) -> Result<Told> {
        match &server.access {
            Access::Xyz { finest, .. } => Ok(Told::Mercator(Level::web_mercator(*finest))),
            Access::Wms { url, layer } => {
                let asked = wms::asking(
                    url,
                    &[("SERVICE", "WMS"), ("VERSION", "1.1.1"), ("REQUEST", "GetCapabilities")],
                );
                let text = self.text(server, asked).await?;
                let systems = wms::reference_systems(&text, layer);
                systems.map(Told::Systems).ok_or_else(|| self.odd(server, "capabilities that have the layer"))
            }
            Access::Wmts { url, layer } => {
                let asked = wms::asking(
                    url,
                    &[("SERVICE", "WMTS"), ("VERSION", "1.0.0"), ("REQUEST", "GetCapabilities")],
                );
                let text = self.text(server, asked).await?;
                let sets = wmts::matrix_sets(&text, layer);
                sets.map(Told::Sets).ok_or_else(|| self.odd(server, "capabilities that have the layer"))
            }
        }
    }

    async fn text(&self, server: &MapServer, address: Url) -> Result<String> {
        let body = self.body(server, address).await?.ok_or_else(|| self.odd(server, "capabilities"))?;
        String::from_utf8(body).map_err(|_| self.odd(server, "capabilities"))
    }

    /// A picture of the server; `None` where it has none there.
    async fn piece(&self, server: &MapServer, address: Url) -> Result<Option<Arc<Picture>>> {
        let key = address.to_string();
        if let Some(known) = self.pieces.get(&key).await {
            return Ok(Some(known));
        }
        let Some(body) = self.body(server, address).await? else { return Ok(None) };
        let unpacked = tokio::task::spawn_blocking(move || unpack(&body)).await;
        let picture = unpacked.ok().flatten().ok_or_else(|| self.odd(server, "a picture (PNG or JPEG)"))?;
        let picture = Arc::new(picture);
        self.pieces.insert(key, Arc::clone(&picture)).await;
        Ok(Some(picture))
    }

    /// An answer; `None` where the server has nothing there.
    async fn body(&self, server: &MapServer, address: Url) -> Result<Option<Vec<u8>>> {
        let name = || server.name.clone();
        let silent = |e: reqwest::Error| Error::Silent {
            name: name(),
            why: match e.is_timeout() {
                true => format!("nothing came within {} s", PATIENCE.as_secs()),
                false => "no connection".into(),
            },
        };
        let mut answer = self.http.get(address).send().await.map_err(silent)?;
        match answer.status() {
            StatusCode::NOT_FOUND | StatusCode::NO_CONTENT | StatusCode::GONE => return Ok(None),
            status if !status.is_success() => {
                return Err(Error::Refused { name: name(), why: format!("status {}", status.as_u16()) });
            }
            _ => {}
        }
        let mut body = Vec::new();
        while let Some(piece) = answer.chunk().await.map_err(silent)? {
            body.extend_from_slice(&piece);
            if body.len() > MOST_BYTES {
                return Err(self.odd(server, "an answer of less than 8 MB"));
            }
        }
        Ok(Some(body))
    }
}

/// Column and row of a tile, and its picture where the server has one.
type Tile = ((usize, usize), Option<Arc<Picture>>);

/// Tiles side by side.
struct Sheet {
    /// column and row of the first
    corner: (usize, usize),
    /// how many along and down
    tiles: (usize, usize),
    /// width and height of a tile, pixels
    edge: [usize; 2],
}

impl Sheet {
    /// One picture of all tiles, clear where there is none; `None` where one has another size.
    fn of(&self, tiles: Vec<Tile>) -> Option<Picture> {
        let [tile_width, tile_height] = self.edge;
        let (width, height) = (self.tiles.0 * tile_width, self.tiles.1 * tile_height);
        let mut pixels = vec![0; width * height * 4];
        for ((col, row), piece) in tiles {
            let Some(piece) = piece else { continue };
            if [piece.width, piece.height] != self.edge {
                return None;
            }
            let (left, top) = ((col - self.corner.0) * tile_width, (row - self.corner.1) * tile_height);
            for (line, values) in piece.pixels.chunks_exact(tile_width * 4).enumerate() {
                let to = ((top + line) * width + left) * 4;
                pixels[to..to + values.len()].copy_from_slice(values);
            }
        }
        Some(Picture { width, height, pixels, original: (width, height), crs: None, geo_transform: None })
    }
}

/// What a picture is wanted for.
struct Onto<'a> {
    crs: &'a Crs,
    extent: Extent,
    size: (usize, usize),
}

impl Onto<'_> {
    fn lay(
        &self,
        picture: &Picture,
        geo_transform: [f64; 6],
        from: &Crs,
    ) -> bothros_formats::Result<Vec<u8>> {
        lay_onto(picture, geo_transform, from, self.crs, self.extent, self.size)
    }
}

fn place(server: &MapServer, error: bothros_formats::Error) -> Error {
    Error::Place { name: server.name.clone(), why: error.to_string() }
}

fn mercator(server: &MapServer) -> Result<Crs> {
    Crs::parse("EPSG:3857").map_err(|e| place(server, e))
}

/// What is covered in the CRS `from`, with a margin of two pixels, and the edge of a pixel there.
fn covered(onto: &Onto<'_>, from: &Crs) -> bothros_formats::Result<(Extent, f64)> {
    let Onto { crs, extent: [west, south, east, north], size: (width, height) } = *onto;
    let same = from.same_as(crs)?;
    let back = Transform::new(crs, from)?;
    let point = |x: f64, y: f64| if same { Ok((x, y)) } else { back.point(x, y) };
    let (step_x, step_y) = ((east - west) / width as f64, (north - south) / height as f64);
    let (middle_x, middle_y) = ((west + east) / 2.0, (south + north) / 2.0);
    let (here, beside) = (point(middle_x, middle_y)?, point(middle_x + step_x, middle_y)?);
    let resolution = (beside.0 - here.0).hypot(beside.1 - here.1);
    let mut out = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    for j in 0..=height.div_ceil(STEP) {
        for i in 0..=width.div_ceil(STEP) {
            let at = |n: usize, most: usize| (n * STEP).min(most) as f64;
            let (x, y) = point(west + at(i, width) * step_x, north - at(j, height) * step_y)?;
            out = [out[0].min(x), out[1].min(y), out[2].max(x), out[3].max(y)];
        }
    }
    let more = 2.0 * resolution;
    Ok(([out[0] - more, out[1] - more, out[2] + more, out[3] + more], resolution))
}
