//! Layers of features: from files, or drawn on the map.

use std::collections::{BTreeMap, HashMap};

use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QueryOrder,
    QuerySelect,
};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::entity::layer;
use crate::{Change, Error, Result, Store, boxed};

/// What a layer is to its study.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LayerRole {
    /// mapped streams
    MappedStreams,
    /// lines along which the ground is lowered
    BreachLines,
    /// lines that no flow passes
    Walls,
    /// places where water passes a barrier
    Culverts,
    /// water at one level
    Lakes,
    /// sinks that are real
    ClosedBasins,
    /// outlines: of a town, a published catchment
    Boundaries,
    /// areas whose ground is rebuilt
    RebuildAreas,
    /// places of known elevation
    ElevationPoints,
    /// contour lines with their elevations
    ContourLines,
    /// what the streams would be before anything is decided; made by the review
    Provisional,
    /// crests of dams
    Dams,
    /// places that matter
    Sites,
    /// where the map of streams looks
    MapCoverage,
    /// where channels were seen to begin
    ChannelHeads,
}

/// Which shapes a role has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LayerShape {
    /// points
    Points,
    /// lines
    Lines,
    /// polygons
    Polygons,
    /// points or polygons
    PointsOrPolygons,
}

impl LayerRole {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 14] = [
        Self::MappedStreams,
        Self::MapCoverage,
        Self::ChannelHeads,
        Self::Culverts,
        Self::BreachLines,
        Self::Walls,
        Self::Lakes,
        Self::ClosedBasins,
        Self::Boundaries,
        Self::RebuildAreas,
        Self::ElevationPoints,
        Self::ContourLines,
        Self::Dams,
        Self::Sites,
    ];

    /// Name in the database and in addresses.
    pub fn name(self) -> &'static str {
        match self {
            Self::MappedStreams => "mapped_streams",
            Self::BreachLines => "breach_lines",
            Self::Walls => "walls",
            Self::Culverts => "culverts",
            Self::Lakes => "lakes",
            Self::ClosedBasins => "closed_basins",
            Self::Boundaries => "boundaries",
            Self::RebuildAreas => "rebuild_areas",
            Self::ElevationPoints => "elevation_points",
            Self::ContourLines => "contour_lines",
            Self::Provisional => "provisional",
            Self::Dams => "dams",
            Self::Sites => "sites",
            Self::MapCoverage => "map_coverage",
            Self::ChannelHeads => "channel_heads",
        }
    }
    /// From its name.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().chain([Self::Provisional]).find(|role| role.name() == name)
    }
    /// In words.
    pub fn title(self) -> &'static str {
        match self {
            Self::MappedStreams => "Mapped streams",
            Self::BreachLines => "Breach lines",
            Self::Walls => "Walls",
            Self::Culverts => "Culverts and bridges",
            Self::Lakes => "Lakes",
            Self::ClosedBasins => "Closed basins",
            Self::Boundaries => "Boundaries",
            Self::RebuildAreas => "Areas to rebuild",
            Self::ElevationPoints => "Elevation points",
            Self::ContourLines => "Contour lines",
            Self::Provisional => "Provisional network",
            Self::Dams => "Dams",
            Self::Sites => "Sites",
            Self::MapCoverage => "Coverage of the map",
            Self::ChannelHeads => "Surveyed channel heads",
        }
    }
    /// Whether its features need an elevation.
    pub fn has_elevation(self) -> bool {
        matches!(self, Self::ElevationPoints | Self::ContourLines)
    }
    /// Its shapes.
    pub fn shape(self) -> LayerShape {
        match self {
            Self::MappedStreams
            | Self::BreachLines
            | Self::Walls
            | Self::Dams
            | Self::ContourLines
            | Self::Provisional => LayerShape::Lines,
            Self::Culverts | Self::ElevationPoints | Self::ChannelHeads => LayerShape::Points,
            Self::Lakes | Self::Boundaries | Self::RebuildAreas | Self::MapCoverage => LayerShape::Polygons,
            Self::ClosedBasins | Self::Sites => LayerShape::PointsOrPolygons,
        }
    }
}

/// A shape in the study's CRS, x before y.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Shape {
    /// one place
    Point([f64; 2]),
    /// a line of two points or more
    Line(Vec<[f64; 2]>),
    /// polygons: rings, each closed, the outer one first
    Polygons(Vec<Vec<Vec<[f64; 2]>>>),
}

/// One feature of a layer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LayerFeature {
    /// its number in the layer; numbers are not used again
    pub id: u32,
    /// its name, where it has one
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// its elevation, metres, where it has one
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub elevation: Option<f64>,
    /// its other numbers, by the names of their fields
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub numbers: BTreeMap<String, f64>,
    /// its shape
    pub shape: Shape,
}

/// A layer without its features.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Layer {
    /// number
    pub id: i64,
    /// what it is to the study
    pub role: LayerRole,
    /// name as the user knows it
    pub name: String,
    /// where it comes from
    pub provenance: Json,
    /// number of features
    pub features: usize,
    /// counts changes
    pub version: i32,
}

fn packed(features: &[LayerFeature]) -> Result<Vec<u8>> {
    Ok(zstd::bulk::compress(&serde_json::to_vec(features)?, 3)?)
}

fn unpacked(data: &[u8]) -> Result<Vec<LayerFeature>> {
    Ok(serde_json::from_slice(&zstd::decode_all(data)?)?)
}

/// The columns that describe a layer.
type Described = (i64, String, String, Json, i32, i32);

fn described((id, role, name, provenance, features, version): Described) -> Result<Layer> {
    let role = LayerRole::from_name(&role).ok_or(Error::NotFound("layer of this role"))?;
    Ok(Layer { id, role, name, provenance, features: features as usize, version })
}

/// What a layer is, without its features.
const DESCRIBED: [layer::Column; 6] = [
    layer::Column::Id,
    layer::Column::Role,
    layer::Column::Name,
    layer::Column::Provenance,
    layer::Column::Features,
    layer::Column::Version,
];

impl Store {
    /// The layers of a study, the oldest first.
    #[boxed]
    pub async fn layers(&self, study: i64) -> Result<Vec<Layer>> {
        layers_of(&self.db, study).await
    }

    /// The layers of all studies, by study, the oldest first.
    #[boxed]
    pub async fn all_layers(&self) -> Result<HashMap<i64, Vec<Layer>>> {
        let found: Vec<(i64, i64, String, String, Json, i32, i32)> = layer::Entity::find()
            .select_only()
            .column(layer::Column::StudyId)
            .columns(DESCRIBED)
            .filter(layer::Column::DeletedAt.is_null())
            .order_by_asc(layer::Column::Id)
            .into_tuple()
            .all(&self.db)
            .await?;
        let mut all: HashMap<i64, Vec<Layer>> = HashMap::new();
        for (study, id, role, name, provenance, features, version) in found {
            let layer = described((id, role, name, provenance, features, version))?;
            all.entry(study).or_default().push(layer);
        }
        Ok(all)
    }

    /// A layer with its features.
    #[boxed]
    pub async fn layer(&self, study: i64, id: i64) -> Result<(Layer, Vec<LayerFeature>)> {
        let row = layer_row(&self.db, study, id).await?;
        let features = unpacked(&row.data)?;
        Ok((described((row.id, row.role, row.name, row.provenance, row.features, row.version))?, features))
    }

    /// All features of a study in a role.
    #[boxed]
    pub async fn features_of(&self, study: i64, role: LayerRole) -> Result<Vec<LayerFeature>> {
        let rows = layer::Entity::find()
            .filter(layer::Column::StudyId.eq(study))
            .filter(layer::Column::Role.eq(role.name()))
            .filter(layer::Column::DeletedAt.is_null())
            .order_by_asc(layer::Column::Id)
            .all(&self.db)
            .await?;
        let mut all = Vec::new();
        for row in rows {
            all.extend(unpacked(&row.data)?);
        }
        Ok(all)
    }
}

async fn layers_of(db: &impl ConnectionTrait, study: i64) -> Result<Vec<Layer>> {
    let found: Vec<Described> = layer::Entity::find()
        .select_only()
        .columns(DESCRIBED)
        .filter(layer::Column::StudyId.eq(study))
        .filter(layer::Column::DeletedAt.is_null())
        .order_by_asc(layer::Column::Id)
        .into_tuple()
        .all(db)
        .await?;
    found.into_iter().map(described).collect()
}

async fn layer_row(db: &impl ConnectionTrait, study: i64, id: i64) -> Result<layer::Model> {
    let found = layer::Entity::find_by_id(id).filter(layer::Column::StudyId.eq(study)).one(db).await?;
    found.ok_or(Error::NotFound("layer"))
}

impl Change {
    /// Adds a layer.
    #[boxed]
    pub async fn add_layer(
        &self,
        role: LayerRole,
        name: &str,
        provenance: Json,
        features: Vec<LayerFeature>,
    ) -> Result<Layer> {
        let row = layer::ActiveModel {
            study_id: Set(self.id()),
            role: Set(role.name().into()),
            name: Set(name.into()),
            provenance: Set(provenance.clone()),
            features: Set(features.len() as i32),
            version: Set(1),
            data: Set(packed(&features)?),
            deleted_at: Set(None),
            ..Default::default()
        };
        let row = row.insert(&self.transaction).await?;
        Ok(Layer { id: row.id, role, name: name.into(), provenance, features: features.len(), version: 1 })
    }

    /// Changes the features of a layer.
    async fn change_features<T>(
        &self,
        id: i64,
        change: impl FnOnce(&mut Vec<LayerFeature>) -> Result<T>,
    ) -> Result<T> {
        let row = layer_row(&self.transaction, self.id(), id).await?;
        let mut features = unpacked(&row.data)?;
        let told = change(&mut features)?;
        let new = layer::ActiveModel {
            id: Set(id),
            features: Set(features.len() as i32),
            version: Set(row.version + 1),
            data: Set(packed(&features)?),
            ..Default::default()
        };
        new.update(&self.transaction).await?;
        Ok(told)
    }

    /// Draws a feature into the study's own layer of a role, which is made where there is none; the
    /// layer's number and the feature's. `crs` is the definition of the coordinates' CRS.
    #[boxed]
    pub async fn draw(
        &self,
        role: LayerRole,
        name: Option<String>,
        elevation: Option<f64>,
        shape: Shape,
        crs: &str,
    ) -> Result<(i64, u32)> {
        let drawn = |layer: &&Layer| {
            layer.role == role
                && layer.provenance["drawn"] == Json::Bool(true)
                && layer.provenance["crs"].as_str() == Some(crs)
        };
        let layers = layers_of(&self.transaction, self.id()).await?;
        let layer = match layers.iter().find(drawn) {
            Some(layer) => layer.id,
            None => {
                let title = format!("{}, drawn", role.title());
                let provenance = serde_json::json!({ "drawn": true, "crs": crs });
                self.add_layer(role, &title, provenance, Vec::new()).await?.id
            }
        };
        let feature = self.change_features(layer, |features| {
            let id = features.iter().map(|f| f.id + 1).max().unwrap_or(1);
            features.push(LayerFeature { id, name, elevation, numbers: BTreeMap::new(), shape });
            Ok(id)
        });
        Ok((layer, feature.await?))
    }

    /// Takes a feature out of its layer.
    ///
    /// # Errors
    /// [`Error::NotFound`] where another user has deleted it meanwhile.
    #[boxed]
    pub async fn remove_feature(&self, layer: i64, feature: u32) -> Result<LayerFeature> {
        self.change_features(layer, |features| {
            let at = features.iter().position(|f| f.id == feature).ok_or(Error::NotFound("feature"))?;
            Ok(features.remove(at))
        })
        .await
    }

    /// Puts a feature back into its layer, or back as it was.
    #[boxed]
    pub async fn restore_feature(&self, layer: i64, feature: LayerFeature) -> Result<()> {
        self.change_features(layer, |features| {
            let at = features.partition_point(|f| f.id < feature.id);
            match features.get_mut(at).filter(|f| f.id == feature.id) {
                Some(now) => *now = feature,
                None => features.insert(at, feature),
            }
            Ok(())
        })
        .await
    }

    /// Gives a feature another shape; answers with the feature as it was.
    ///
    /// # Errors
    /// [`Error::NotFound`] where another user has deleted it meanwhile.
    #[boxed]
    pub async fn reshape_feature(&self, layer: i64, feature: u32, shape: Shape) -> Result<LayerFeature> {
        self.change_features(layer, |features| {
            let found = features.iter_mut().find(|f| f.id == feature).ok_or(Error::NotFound("feature"))?;
            let before = found.clone();
            found.shape = shape;
            Ok(before)
        })
        .await
    }

    /// Puts a layer in place of all others of its role, without a way back: for what is computed.
    #[boxed]
    pub async fn replace_layer(&self, role: LayerRole, features: Vec<LayerFeature>) -> Result<()> {
        layer::Entity::delete_many()
            .filter(layer::Column::StudyId.eq(self.id()))
            .filter(layer::Column::Role.eq(role.name()))
            .exec(&self.transaction)
            .await?;
        self.add_layer(role, role.title(), Json::Null, features).await?;
        Ok(())
    }

    /// Deletes a layer, or brings it back.
    #[boxed]
    pub async fn set_layer_deleted(&self, id: i64, deleted: bool) -> Result<()> {
        let mut row: layer::ActiveModel = layer_row(&self.transaction, self.id(), id).await?.into();
        row.deleted_at = Set(deleted.then(crate::studies::now));
        row.update(&self.transaction).await?;
        Ok(())
    }
}
