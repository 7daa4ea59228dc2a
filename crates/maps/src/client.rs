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
use crate::wmts::MatrixSet;
use crate::{Access, Error, MapServer, Result, wms, wmts};

/// How long a server may take for one answer.
const PATIENCE: Duration = Duration::from_secs(20);
/// The largest answer that is read, bytes.
const MOST_BYTES: usize = 8 << 20;
/// Edge of the largest picture that is unpacked, pixels.
const MOST_PIXELS: u32 = 4096;
/// Unpacked pictures that are kept in memory, bytes.
const ROOM: u64 = 96 << 20;
/// For how long a picture is taken to be what the server would still give.
const FRESH: Duration = Duration::from_secs(24 * 3600);
/// Requests to one server at a time.
const AT_ONCE: usize = 6;
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
    pub async fn picture(
        &self,
        at: usize,
        crs: &Crs,
        extent: Extent,
        size: (usize, usize),
    ) -> Result<Vec<u8>> {
        let (server, told) = self.servers.get(at).ok_or(Error::Unknown)?;
        let told = told.get_or_try_init(|| self.ask_what_it_has(server)).await?;
        let place =
            |e: bothros_formats::Error| Error::Place { name: server.name.clone(), why: e.to_string() };
        let mercator = || Crs::parse("EPSG:3857").map_err(place);
        if let (Access::Wms { url, layer }, Told::Systems(systems)) = (&server.access, told) {
            let own = crs.epsg.map(|code| format!("EPSG:{code}")).filter(|code| systems.contains(code));
            if let Some(system) = own {
                let asked = wms::picture(url, layer, &system, extent, size);
                let piece = self.piece(server, asked).await?.ok_or_else(|| self.odd(server, "a picture"))?;
                return match (piece.width, piece.height) == size {
                    true => Ok(piece.pixels.clone()),
                    false => Err(self.odd(server, "a picture of the size that was asked for")),
                };
            }
            let from = mercator()?;
            let (covered, resolution) = covered(crs, &from, extent, size).map_err(place)?;
            let pixels = |low: f64, high: f64| (((high - low) / resolution).ceil() as usize).clamp(1, 2048);
            let (width, height) = (pixels(covered[0], covered[2]), pixels(covered[1], covered[3]));
            let asked = wms::picture(url, layer, "EPSG:3857", covered, (width, height));
            let piece = self.piece(server, asked).await?.ok_or_else(|| self.odd(server, "a picture"))?;
            let step = |low: f64, high: f64, count: usize| (high - low) / count as f64;
            let geo_transform = [
                covered[0],
                step(covered[0], covered[2], piece.width),
                0.0,
                covered[3],
                0.0,
                -step(covered[1], covered[3], piece.height),
            ];
            return lay_onto(&piece, geo_transform, &from, crs, extent, size).map_err(place);
        }
        let (from, levels, set) = match told {
            Told::Mercator(levels) => (mercator()?, levels, None),
            Told::Sets(sets) => {
                // In the study's own CRS where there is one.
                let own = sets.iter().find(|s| s.crs.epsg.is_some() && s.crs.epsg == crs.epsg);
                let set =
                    own.or(sets.first()).ok_or_else(|| self.odd(server, "levels in a CRS with lengths"))?;
                (set.crs.clone(), &set.levels, Some(set))
            }
            Told::Systems(_) => return Err(Error::Unknown),
        };
        let (covered, resolution) = covered(crs, &from, extent, size).map_err(place)?;
        let blank = || vec![0; size.0 * size.1 * 4];
        let Some((level, tiles)) = fitting(levels, covered, resolution) else { return Ok(blank()) };
        let wanted: Vec<(usize, usize)> =
            tiles.rows.clone().flat_map(|row| tiles.cols.clone().map(move |col| (col, row))).collect();
        let [tile_width, tile_height] = level.tile;
        let (first_col, first_row) = (*tiles.cols.start(), *tiles.rows.start());
        let (cols, rows) = (tiles.cols.count(), tiles.rows.count());
        let fetched: Vec<((usize, usize), Option<Arc<Picture>>)> = stream::iter(wanted)
            .map(|(col, row)| async move {
                let address = self.tile_address(server, set, level, (col, row))?;
                Ok::<_, Error>(((col - first_col, row - first_row), self.piece(server, address).await?))
            })
            .buffer_unordered(AT_ONCE)
            .try_collect()
            .await?;
        let (width, height) = (cols * tile_width, rows * tile_height);
        let mut sheet = Picture {
            width,
            height,
            pixels: vec![0; width * height * 4],
            original: (width, height),
            crs: None,
            geo_transform: None,
        };
        for ((col, row), piece) in fetched {
            let Some(piece) = piece else { continue };
            if (piece.width, piece.height) != (tile_width, tile_height) {
                return Err(self.odd(server, "tiles of the size that it tells"));
            }
            for line in 0..tile_height {
                let to = ((row * tile_height + line) * width + col * tile_width) * 4;
                let from = line * tile_width * 4;
                sheet.pixels[to..to + tile_width * 4]
                    .copy_from_slice(&piece.pixels[from..from + tile_width * 4]);
            }
        }
        let [left, top] = level.corner(first_col, first_row);
        let geo_transform = [left, level.resolution, 0.0, top, 0.0, -level.resolution];
        lay_onto(&sheet, geo_transform, &from, crs, extent, size).map_err(place)
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
        let picture =
            unpacked.ok().flatten().ok_or_else(|| self.odd(server, "a picture (PNG, JPEG or WebP)"))?;
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

/// Unpacks a picture; `None` for what is none, or too large.
fn unpack(body: &[u8]) -> Option<Picture> {
    let mut reader = image::ImageReader::new(std::io::Cursor::new(body)).with_guessed_format().ok()?;
    let mut limits = image::Limits::default();
    limits.max_image_width = Some(MOST_PIXELS);
    limits.max_image_height = Some(MOST_PIXELS);
    reader.limits(limits);
    let picture = reader.decode().ok()?.into_rgba8();
    let (width, height) = (picture.width() as usize, picture.height() as usize);
    Some(Picture {
        width,
        height,
        pixels: picture.into_raw(),
        original: (width, height),
        crs: None,
        geo_transform: None,
    })
}

/// What an extent of `to` covers in `from`, with a margin of two pixels, and the edge of a pixel there.
fn covered(
    to: &Crs,
    from: &Crs,
    [west, south, east, north]: Extent,
    (width, height): (usize, usize),
) -> bothros_formats::Result<(Extent, f64)> {
    let same = from.same_as(to)?;
    let back = Transform::new(to, from)?;
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
