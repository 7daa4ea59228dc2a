//! Asking an archive what it has.

use std::collections::HashSet;
use std::time::Duration;

use reqwest::Client;
use serde_json::Value;
use url::Url;

use crate::offer::meet;
use crate::{Collection, Error, Extent, Offer, Result, boxed};

/// Largest number of files examined for one search.
const MOST_OFFERS: usize = 10_000;
/// Files on one page of an answer.
const ON_A_PAGE: usize = 250;
/// The largest answer that is read.
const MOST_BYTES: usize = 32 << 20;
const PATIENCE: Duration = Duration::from_secs(60);

/// An archive that speaks STAC, at an address of its own. Nothing is asked of any other host, whatever
/// its answers say.
#[derive(Debug, Clone)]
pub struct Archive {
    root: Url,
    http: Client,
}

impl Archive {
    /// The archive whose landing page is at `address`.
    ///
    /// # Errors
    /// [`Error::Address`] if it is not an address.
    pub fn new(address: &str) -> Result<Self> {
        let mut root = Url::parse(address.trim()).map_err(|_| Error::Address(address.into()))?;
        if !matches!(root.scheme(), "http" | "https") || root.host().is_none() {
            return Err(Error::Address(address.into()));
        }
        if !root.path().ends_with('/') {
            root.set_path(&format!("{}/", root.path()));
        }
        prepare_tls();
        let http = Client::builder()
            .timeout(PATIENCE)
            .redirect(reqwest::redirect::Policy::none())
            .build()
            .map_err(|e| Error::Silent { host: host_of(&root), why: e.to_string() })?;
        Ok(Self { root, http })
    }

    /// Its address.
    pub fn address(&self) -> &str {
        self.root.as_str()
    }

    /// Host and port, for people.
    pub fn host(&self) -> String {
        host_of(&self.root)
    }

    fn not_stac(&self, what: impl Into<String>) -> Error {
        Error::NotStac { host: self.host(), what: what.into() }
    }

    async fn get(&self, address: Url) -> Result<Value> {
        let silent = |e: reqwest::Error| Error::Silent {
            host: self.host(),
            why: if e.is_timeout() {
                format!("no answer within {} s", PATIENCE.as_secs())
            } else {
                "no connection".into()
            },
        };
        let mut answer = self.http.get(address).send().await.map_err(silent)?;
        if !answer.status().is_success() {
            return Err(Error::Refused { host: self.host(), status: answer.status().as_u16() });
        }
        let mut body = Vec::new();
        while let Some(piece) = answer.chunk().await.map_err(silent)? {
            body.extend_from_slice(&piece);
            if body.len() > MOST_BYTES {
                return Err(self.not_stac("it is too long"));
            }
        }
        serde_json::from_slice(&body).map_err(|_| self.not_stac("it is no JSON"))
    }

    fn join(&self, path: &str) -> Result<Url> {
        self.root.join(path).map_err(|_| Error::Address(path.into()))
    }

    /// The collections it has.
    ///
    /// # Errors
    /// [`Error::Silent`], [`Error::Refused`], [`Error::NotStac`].
    #[boxed]
    pub async fn collections(&self) -> Result<Vec<Collection>> {
        let answer = self.get(self.join("collections")?).await?;
        let all = answer["collections"].as_array().ok_or_else(|| self.not_stac("no collections"))?;
        all.iter().map(|c| self.collection(c)).collect()
    }

    fn collection(&self, c: &Value) -> Result<Collection> {
        let id = text(&c["id"]).ok_or_else(|| self.not_stac("a collection has no id"))?;
        let extent = extent_of(&c["extent"]["spatial"]["bbox"][0])
            .ok_or_else(|| self.not_stac(format!("collection {id} does not tell its extent")))?;
        let makers = c["providers"].as_array().into_iter().flatten().filter_map(|p| text(&p["name"]));
        let summary = &c["summaries"]["gsd"];
        Ok(Collection {
            title: text(&c["title"]).unwrap_or_else(|| id.clone()),
            description: text(&c["description"]).unwrap_or_default(),
            licence: text(&c["license"]).unwrap_or_default(),
            source: makers.collect::<Vec<_>>().join(", "),
            resolution_m: summary[0].as_f64().or_else(|| summary["minimum"].as_f64()),
            extent,
            id,
        })
    }

    /// The files of a collection that meet an extent, in the archive's order.
    ///
    /// # Errors
    /// Those of [`collections`](Self::collections); [`Error::TooMany`].
    #[boxed]
    pub async fn search(&self, collection: &str, extent: Extent) -> Result<Vec<Offer>> {
        let mut at = self.join("search")?;
        at.query_pairs_mut()
            .append_pair("collections", collection)
            .append_pair("bbox", &extent.map(|side| side.to_string()).join(","))
            .append_pair("limit", &ON_A_PAGE.to_string());
        let (mut offers, mut seen) = (Vec::new(), 0);
        let mut pages = HashSet::from([at.clone()]);
        loop {
            let answer = self.get(at.clone()).await?;
            let items = answer["features"].as_array().ok_or_else(|| self.not_stac("no features"))?;
            for item in items {
                offers.extend(self.offer(item)?.filter(|o| meet(&o.extent, &extent)));
            }
            // Files elsewhere count as well: an archive that does not look at the box would have no end.
            seen += items.len();
            if seen > MOST_OFFERS {
                return Err(Error::TooMany { most: MOST_OFFERS });
            }
            let links = answer["links"].as_array().into_iter().flatten();
            let next = links.filter(|l| l["rel"] == "next").find_map(|l| text(&l["href"]));
            match next {
                Some(next) if !items.is_empty() => {
                    let next = at.join(&next).map_err(|_| self.not_stac("a link that is no address"))?;
                    self.own(&next)?;
                    // Pages that lead round in a ring would never end.
                    if !pages.insert(next.clone()) {
                        return Err(self.not_stac("its pages lead back to one that was read"));
                    }
                    at = next;
                }
                _ => return Ok(offers),
            }
        }
    }

    /// Fails for an address of another host.
    fn own(&self, address: &Url) -> Result<()> {
        if address.origin() == self.root.origin() {
            return Ok(());
        }
        Err(self.not_stac(format!("it points to another host, {}", host_of(address))))
    }

    /// An item as an offer; `None` where it holds no GeoTIFF.
    fn offer(&self, item: &Value) -> Result<Option<Offer>> {
        let id = text(&item["id"]).ok_or_else(|| self.not_stac("an item has no id"))?;
        let extent = extent_of(&item["bbox"])
            .ok_or_else(|| self.not_stac(format!("item {id} does not tell its extent")))?;
        let properties = &item["properties"];
        let is_data = |asset: &Value| {
            let kind = asset["type"].as_str().unwrap_or_default();
            let roles = asset["roles"].as_array();
            let data = roles.is_none_or(|roles| roles.iter().any(|r| r == "data"));
            kind.starts_with("image/tiff") && data
        };
        let assets = item["assets"].as_object();
        let Some(asset) = assets.and_then(|all| all.values().find(|a| is_data(a))) else {
            return Ok(None);
        };
        let href = text(&asset["href"])
            .ok_or_else(|| self.not_stac(format!("item {id} has a file without address")))?;
        // An address may be told from where the item itself lies.
        let links = item["links"].as_array().into_iter().flatten();
        let own = links.filter(|l| l["rel"] == "self").find_map(|l| text(&l["href"]));
        let base = own.and_then(|own| self.root.join(&own).ok()).unwrap_or_else(|| self.root.clone());
        let address =
            base.join(&href).map_err(|_| self.not_stac(format!("item {id} has a file without address")))?;
        self.own(&address)?;
        // Told for the file, or else for the item.
        let projected = |key: &str| match &asset[key] {
            Value::Null => properties[key].clone(),
            told => told.clone(),
        };
        let shape = projected("proj:shape");
        let side = |at: usize| shape[at].as_u64().and_then(|n| usize::try_from(n).ok());
        let crs = text(&projected("proj:code"))
            .or_else(|| projected("proj:epsg").as_u64().map(|code| format!("EPSG:{code}")));
        let begin = text(&properties["datetime"]).or_else(|| text(&properties["start_datetime"]));
        let date = begin.unwrap_or_default().chars().take(10).collect();
        let shape = side(0).zip(side(1)).map(|(rows, cols)| [rows, cols]);
        Ok(Some(Offer { id, date, extent, address: address.into(), shape, crs }))
    }
}

/// Chooses the TLS library once for the process; every HTTP client in it needs that.
pub fn prepare_tls() {
    // It fails only where that has been said before.
    let _ = rustls::crypto::ring::default_provider().install_default();
}

fn host_of(address: &Url) -> String {
    let host = address.host_str().unwrap_or_default();
    address.port().map_or(host.to_owned(), |port| format!("{host}:{port}"))
}

fn text(value: &Value) -> Option<String> {
    value.as_str().map(str::to_owned).filter(|t| !t.is_empty())
}

/// An extent of four numbers, or of six with heights.
fn extent_of(value: &Value) -> Option<Extent> {
    let all: Vec<f64> = value.as_array()?.iter().map(Value::as_f64).collect::<Option<_>>()?;
    let [west, south, east, north] = match all.as_slice() {
        &[w, s, e, n] | &[w, s, _, e, n, _] => [w, s, e, n],
        _ => return None,
    };
    (west < east && south < north).then_some([west, south, east, north])
}
