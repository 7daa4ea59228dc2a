//! Layers in memory, so that a map that moves need not read them again.

use std::sync::Arc;

use bothros_store::{Layer, LayerFeature, Store};
use moka::policy::EvictionPolicy;

use crate::inputs::layers::bounds;
use crate::{Error, Facts, Result, boxed, layer_shapes};

/// A layer in the study's CRS, with the box around each feature.
pub struct SeenLayer {
    /// the features
    pub features: Vec<LayerFeature>,
    /// west, south, east, north of each, CRS units
    boxes: Vec<[f64; 4]>,
}

impl SeenLayer {
    /// The numbers of the features whose boxes touch a view (west, south, east, north), and the size of
    /// each box (its longer side, CRS units).
    pub fn within(&self, [west, south, east, north]: [f64; 4]) -> impl Iterator<Item = (usize, f64)> + '_ {
        self.boxes.iter().enumerate().filter_map(move |(i, [x0, y0, x1, y1])| {
            let touches = *x0 <= east && *x1 >= west && *y0 <= north && *y1 >= south;
            touches.then(|| (i, (x1 - x0).max(y1 - y0)))
        })
    }
}

/// Key of a layer in memory: its number, its version, and the CRS of the study.
type Key = (i64, i32, String);

/// The layers used most recently. Clones share one cache.
#[derive(Clone)]
pub struct LayerCache(moka::future::Cache<Key, Arc<SeenLayer>>);

impl Default for LayerCache {
    fn default() -> Self {
        // By features: a million lines of ten points take some 250 MB.
        let weight = |_: &Key, l: &Arc<SeenLayer>| (l.features.len() + 100).min(u32::MAX as usize) as u32;
        Self(
            moka::future::Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .weigher(weight)
                .max_capacity(2_000_000)
                .build(),
        )
    }
}

impl LayerCache {
    /// A layer's features, from memory or the store.
    ///
    /// # Errors
    /// Those of the store, and of converting to the study's CRS.
    #[boxed]
    pub async fn get(&self, store: &Store, facts: &Facts, layer: &Layer) -> Result<Arc<SeenLayer>> {
        let crs = facts.terrain.as_ref().map(|t| &t.crs);
        let key = (layer.id, layer.version, crs.map_or(String::new(), |c| c.wkt.clone()));
        let read = async {
            let (_, features) = layer_shapes(store, facts, layer.id).await?;
            let boxes = features.iter().map(|f| bounds(&f.shape)).collect();
            Ok::<_, Error>(Arc::new(SeenLayer { features, boxes }))
        };
        self.0.try_get_with(key, read).await.map_err(|e: Arc<Error>| Error::Refused(e.to_string()))
    }
}
