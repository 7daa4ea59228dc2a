//! A small map server that stands in for a real one: made-up land, real standards.

use std::future::Future;
use std::sync::Arc;

use axum::Router;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use bothros_formats::{Crs, Picture, encode_png, lay_onto};
use serde::Deserialize;
use tokio::net::TcpListener;
use tokio::sync::OnceCell;

use crate::levels::{Extent, Level};
use crate::{Access, MapServer, boxed};

/// A picture of the land, and where it lies.
#[derive(Debug, Clone)]
pub struct Ground {
    /// the picture
    pub picture: Picture,
    /// left, column step, row step, top, column step, row step
    pub geo_transform: [f64; 6],
    /// the CRS of its place
    pub crs: Crs,
}

/// Makes the picture.
pub type Preparing = Arc<dyn Fn() -> Result<Ground, String> + Send + Sync>;

/// A small map server, which makes its picture when it is first asked.
#[derive(Clone)]
pub struct StandIn {
    prepare: Preparing,
    ground: Arc<OnceCell<Ground>>,
}

/// Finest level of its tiles.
const FINEST: u8 = 18;
/// Largest picture that it draws, pixels along an edge.
const LARGEST: usize = 2048;
/// Name of its layer.
const LAYER: &str = "ground";

type Refusal = (StatusCode, String);

fn refuse(what: impl Into<String>) -> Refusal {
    (StatusCode::BAD_REQUEST, what.into())
}

impl StandIn {
    /// A server of the picture that `prepare` makes.
    pub fn new(prepare: Preparing) -> Self {
        Self { prepare, ground: Arc::default() }
    }

    /// How it is asked, one entry for each of the standards that it speaks, where it answers at `root`.
    ///
    /// # Errors
    /// Where `root` is no address.
    pub fn servers(root: &str, attribution: &str) -> Result<Vec<MapServer>, url::ParseError> {
        let root = root.trim_end_matches('/');
        let entry =
            |name: &str, access| MapServer { name: name.into(), attribution: attribution.into(), access };
        let xyz = Access::Xyz { url: format!("{root}/tiles/{{z}}/{{x}}/{{y}}.png"), finest: FINEST };
        let wmts = Access::Wmts { url: format!("{root}/wmts").parse()?, layer: LAYER.into() };
        let wms = Access::Wms { url: format!("{root}/wms").parse()?, layer: LAYER.into() };
        Ok(vec![
            entry("Aerial image (tiles)", xyz),
            entry("Aerial image (WMTS)", wmts),
            entry("Aerial image (WMS)", wms),
        ])
    }

    /// Serves requests on `listener` until `stop` completes.
    ///
    /// # Errors
    /// Those of the listener.
    pub async fn serve(
        self,
        listener: TcpListener,
        stop: impl Future<Output = ()> + Send + 'static,
    ) -> std::io::Result<()> {
        tokio::select! {
            ended = self.answer(listener) => ended,
            () = stop => Ok(()),
        }
    }

    #[boxed]
    async fn answer(self, listener: TcpListener) -> std::io::Result<()> {
        let router = Router::new()
            .route("/tiles/{z}/{x}/{y}", get(tile))
            .route("/wmts", get(wmts))
            .route("/wms", get(wms))
            .with_state(self);
        axum::serve(listener, router).await
    }

    async fn ground(&self) -> Result<&Ground, Refusal> {
        let failed = |why: String| {
            tracing::warn!(why, "the simulated map server could not make its picture");
            (StatusCode::INTERNAL_SERVER_ERROR, why)
        };
        let make = || async {
            let prepare = self.prepare.clone();
            let made = tokio::task::spawn_blocking(move || prepare()).await;
            made.map_err(|e| e.to_string()).and_then(|made| made)
        };
        self.ground.get_or_try_init(make).await.map_err(failed)
    }

    /// The land over an extent.
    async fn drawn(&self, system: &str, extent: Extent, size: (usize, usize)) -> Result<Response, Refusal> {
        self.ground().await?;
        let crs = Crs::parse(system).map_err(|e| refuse(e.to_string()))?;
        let this = self.clone();
        let drawn = tokio::task::spawn_blocking(move || {
            let ground = this.ground.get().ok_or_else(|| "there is no picture".to_owned())?;
            let pixels = lay_onto(&ground.picture, ground.geo_transform, &ground.crs, &crs, extent, size);
            pixels.and_then(|p| encode_png(size.0, size.1, &p)).map_err(|e| e.to_string())
        });
        let png = drawn.await.map_err(|e| e.to_string()).and_then(|drawn| drawn).map_err(refuse)?;
        Ok(([(header::CONTENT_TYPE, "image/png")], png).into_response())
    }

    async fn tile(&self, z: &str, col: usize, row: usize) -> Result<Response, Refusal> {
        let levels = Level::web_mercator(FINEST);
        let level =
            levels.iter().find(|l| l.identifier == z).ok_or_else(|| refuse("there is no such level"))?;
        if col >= level.matrix[0] || row >= level.matrix[1] {
            return Err((StatusCode::NOT_FOUND, "there is no such tile".into()));
        }
        let ([west, north], [east, south]) = (level.corner(col, row), level.corner(col + 1, row + 1));
        self.drawn("EPSG:3857", [west, south, east, north], (level.tile[0], level.tile[1])).await
    }
}

async fn tile(
    State(it): State<StandIn>,
    Path((z, x, y)): Path<(String, usize, String)>,
) -> Result<Response, Refusal> {
    let row = y.trim_end_matches(".png").parse().map_err(|_| refuse("rows are numbers"))?;
    it.tile(&z, x, row).await
}

fn xml(text: String) -> Response {
    ([(header::CONTENT_TYPE, "text/xml")], text).into_response()
}

#[derive(Deserialize)]
#[serde(rename_all = "UPPERCASE")]
struct AskedTile {
    request: String,
    tilematrix: Option<String>,
    tilecol: Option<usize>,
    tilerow: Option<usize>,
}

async fn wmts(State(it): State<StandIn>, Query(asked): Query<AskedTile>) -> Result<Response, Refusal> {
    if asked.request == "GetCapabilities" {
        let matrix = |l: &Level| {
            format!(
                "<TileMatrix><ows:Identifier>{}</ows:Identifier><ScaleDenominator>{}</ScaleDenominator>\
                 <TopLeftCorner>{} {}</TopLeftCorner><TileWidth>{}</TileWidth><TileHeight>{}</TileHeight>\
                 <MatrixWidth>{}</MatrixWidth><MatrixHeight>{}</MatrixHeight></TileMatrix>",
                l.identifier,
                l.resolution / 0.000_28,
                l.origin[0],
                l.origin[1],
                l.tile[0],
                l.tile[1],
                l.matrix[0],
                l.matrix[1]
            )
        };
        let matrices: String = Level::web_mercator(FINEST).iter().map(matrix).collect();
        return Ok(xml(format!(
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?><Capabilities xmlns=\"http://www.opengis.net/wmts/1.0\" \
             xmlns:ows=\"http://www.opengis.net/ows/1.1\" version=\"1.0.0\"><Contents><Layer>\
             <ows:Title>Aerial image</ows:Title><ows:Identifier>{LAYER}</ows:Identifier>\
             <Style isDefault=\"true\"><ows:Identifier>default</ows:Identifier></Style><Format>image/png</Format>\
             <TileMatrixSetLink><TileMatrixSet>square</TileMatrixSet></TileMatrixSetLink></Layer><TileMatrixSet>\
             <ows:Identifier>square</ows:Identifier>\
             <ows:SupportedCRS>urn:ogc:def:crs:EPSG::3857</ows:SupportedCRS>{matrices}</TileMatrixSet></Contents>\
             </Capabilities>"
        )));
    }
    match (asked.tilematrix, asked.tilecol, asked.tilerow) {
        (Some(z), Some(col), Some(row)) => it.tile(&z, col, row).await,
        _ => Err(refuse("TILEMATRIX, TILECOL and TILEROW are needed")),
    }
}

#[derive(Deserialize)]
#[serde(rename_all = "UPPERCASE")]
struct AskedPicture {
    request: String,
    srs: Option<String>,
    bbox: Option<String>,
    width: Option<usize>,
    height: Option<usize>,
}

async fn wms(State(it): State<StandIn>, Query(asked): Query<AskedPicture>) -> Result<Response, Refusal> {
    if asked.request == "GetCapabilities" {
        let own = it.ground().await?.crs.epsg.map_or(String::new(), |code| format!("<SRS>EPSG:{code}</SRS>"));
        return Ok(xml(format!(
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?><WMT_MS_Capabilities version=\"1.1.1\"><Service><Name>OGC:WMS</Name>\
             <Title>Aerial image</Title></Service><Capability><Layer><Title>All</Title><SRS>EPSG:3857</SRS><Layer>\
             <Name>{LAYER}</Name><Title>Aerial image</Title>{own}</Layer></Layer></Capability></WMT_MS_Capabilities>"
        )));
    }
    let corners =
        asked.bbox.as_deref().unwrap_or_default().split(',').map(str::parse).collect::<Result<Vec<f64>, _>>();
    let corners =
        corners.ok().and_then(|c| <Extent>::try_from(c).ok()).filter(|c| c[0] < c[2] && c[1] < c[3]);
    let (Some(system), Some(extent), Some(width), Some(height)) =
        (asked.srs, corners, asked.width, asked.height)
    else {
        return Err(refuse("SRS, BBOX, WIDTH and HEIGHT are needed"));
    };
    if !(1..=LARGEST).contains(&width) || !(1..=LARGEST).contains(&height) {
        return Err(refuse("that picture is too large"));
    }
    it.drawn(&system, extent, (width, height)).await
}
