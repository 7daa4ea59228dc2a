//! Writing layers of features as GeoPackage and GeoJSON.

use std::borrow::Cow;
use std::ffi::CString;
use std::path::Path;

use gdal::vector::{
    Defn, Feature, Geometry as OgrGeometry, LayerAccess, LayerOptions, OGRFieldType, OGRwkbGeometryType,
};
use gdal::{Dataset, DriverManager};
use serde::{Deserialize, Serialize};

use crate::geojson_write::write_geojson;
use crate::heard::written;
use crate::{Crs, Result, Transform, prepare};

/// A file format for features.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VectorFormat {
    /// OGC GeoPackage: any number of layers in one file, in the study's CRS
    GeoPackage,
    /// RFC 7946: one layer in a file, in WGS 84 longitude and latitude
    GeoJson,
    /// Shapefile: one layer in files of the same name beside each other, in the study's CRS; fields have their
    /// [`short_names`], text is UTF-8 and ends after 254 bytes
    Shapefile,
}

/// A shape in CRS units, x before y.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub enum Geometry {
    /// one place
    Point([f64; 2]),
    /// a line of two points or more
    Line(Vec<[f64; 2]>),
    /// polygons: rings, each closed, the outer one first
    Polygons(Vec<Vec<Vec<[f64; 2]>>>),
}

/// What sort of values a field has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FieldKind {
    /// whole numbers
    Integer,
    /// real numbers
    Real,
    /// text
    Text,
    /// yes or no
    Boolean,
}

/// A field of a layer.
#[derive(Debug, Clone, PartialEq)]
pub struct Field {
    /// its name
    pub name: Cow<'static, str>,
    /// its sort
    pub kind: FieldKind,
}

/// A value of a feature.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// nothing
    Null,
    /// a whole number
    Integer(i64),
    /// a real number
    Real(f64),
    /// text
    Text(String),
    /// yes or no
    Boolean(bool),
}

impl<T: Into<Value>> From<Option<T>> for Value {
    fn from(value: Option<T>) -> Self {
        value.map_or(Value::Null, Into::into)
    }
}
macro_rules! value_from {
    ($($t:ty => $v:ident as $k:ty),*) => { $(impl From<$t> for Value { fn from(v: $t) -> Self { Value::$v(<$k>::from(v)) } })* };
}
value_from!(u8 => Integer as i64, u32 => Integer as i64, i32 => Integer as i64, i64 => Integer as i64,
    f64 => Real as f64, bool => Boolean as bool, String => Text as String, &str => Text as String);

/// Features of one sort.
#[derive(Debug, Clone, PartialEq)]
pub struct Layer {
    /// name in the file
    pub name: Cow<'static, str>,
    /// its fields
    pub fields: Vec<Field>,
    /// a shape and a value per field
    pub features: Vec<(Geometry, Vec<Value>)>,
    /// sort of shape, needed where there is no feature
    pub shape: Shape,
}

/// Sort of shape in a layer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shape {
    /// points
    Point,
    /// lines
    Line,
    /// polygons of several parts
    Polygons,
}

impl Shape {
    fn ogr(self) -> OGRwkbGeometryType::Type {
        match self {
            Self::Point => OGRwkbGeometryType::wkbPoint,
            Self::Line => OGRwkbGeometryType::wkbLineString,
            Self::Polygons => OGRwkbGeometryType::wkbMultiPolygon,
        }
    }
}

impl Geometry {
    /// The shape in another CRS.
    ///
    /// # Errors
    /// [`Error::NotConvertible`](crate::Error::NotConvertible) where a place has no coordinates there.
    pub fn converted(&self, to: &Transform) -> Result<Self> {
        Ok(match self {
            Self::Point([x, y]) => Self::Point(to.point(*x, *y)?.into()),
            Self::Line(points) => Self::Line(to.points(points)?),
            Self::Polygons(polygons) => {
                let rings = |rings: &Vec<Vec<[f64; 2]>>| rings.iter().map(|ring| to.points(ring)).collect();
                Self::Polygons(polygons.iter().map(rings).collect::<Result<_>>()?)
            }
        })
    }
}

impl Layer {
    /// The layer with its shapes in another CRS.
    ///
    /// # Errors
    /// [`Error::NotConvertible`](crate::Error::NotConvertible) where a place has no coordinates there.
    pub fn converted(&self, to: &Transform) -> Result<Self> {
        let feature = |(of, row): &(Geometry, Vec<Value>)| Ok((of.converted(to)?, row.clone()));
        let features = self.features.iter().map(feature).collect::<Result<_>>()?;
        Ok(Self { name: self.name.clone(), fields: self.fields.clone(), features, shape: self.shape })
    }
}

/// Names of at most ten characters, as fields of a Shapefile need them, in the order of `names`; each is there once.
///
/// ```
/// use bothros_formats::short_names;
/// assert_eq!(short_names(&["area_km2", "upstream_area", "upstream_angle"]), ["area_km2", "upstream_a", "upstream_1"]);
/// ```
pub fn short_names(names: &[&str]) -> Vec<String> {
    let mut taken: Vec<String> = Vec::with_capacity(names.len());
    for name in names {
        let cut = |most: usize| name.chars().take(most).collect::<String>();
        let numbered = (1..).map(|n: usize| {
            let number = n.to_string();
            cut(10 - number.len()) + &number
        });
        let free = std::iter::once(cut(10)).chain(numbered).find(|short| !taken.contains(short));
        taken.extend(free);
    }
    taken
}

/// Writes layers to a new file; GeoJSON and Shapefile take exactly one.
///
/// # Errors
/// [`Error::Io`](crate::Error::Io) where the disk takes no more, [`Error::Library`](crate::Error::Library).
pub fn write_layers(path: &Path, format: VectorFormat, crs: &Crs, layers: &[Layer]) -> Result<()> {
    prepare();
    let driver = match (format, layers) {
        (VectorFormat::GeoPackage, _) => "GPKG",
        (VectorFormat::Shapefile, _) => "ESRI Shapefile",
        (VectorFormat::GeoJson, [layer]) => return write_geojson(path, crs, layer),
        (VectorFormat::GeoJson, _) => return Err(std::io::Error::other("GeoJSON holds one layer").into()),
    };
    written(|| {
        let mut dataset = DriverManager::get_driver_by_name(driver)?.create_vector_only(path)?;
        if format == VectorFormat::GeoPackage {
            // One transaction for all features: one for each takes a hundred times as long.
            let mut transaction = dataset.start_transaction()?;
            write_into(&mut transaction, format, crs, layers)?;
            transaction.commit()?;
        } else {
            write_into(&mut dataset, format, crs, layers)?;
        }
        Ok(dataset.close()?)
    })
}

/// Writes layers into a dataset.
fn write_into(dataset: &mut Dataset, format: VectorFormat, crs: &Crs, layers: &[Layer]) -> Result<()> {
    let options: &[&str] = match format {
        VectorFormat::Shapefile => &["ENCODING=UTF-8"],
        _ => &[],
    };
    let reference = crs.reference()?;
    for layer in layers {
        let made = dataset.create_layer(LayerOptions {
            name: &layer.name,
            srs: Some(&reference),
            ty: layer.shape.ogr(),
            options: Some(options),
        })?;
        let names: Vec<&str> = layer.fields.iter().map(|f| f.name.as_ref()).collect();
        let short = (format == VectorFormat::Shapefile).then(|| short_names(&names));
        for (at, field) in layer.fields.iter().enumerate() {
            let name = short.as_ref().map_or(field.name.as_ref(), |short| &short[at]);
            let kind = match field.kind {
                FieldKind::Integer => OGRFieldType::OFTInteger64,
                FieldKind::Real => OGRFieldType::OFTReal,
                FieldKind::Text => OGRFieldType::OFTString,
                FieldKind::Boolean => OGRFieldType::OFTInteger,
            };
            add_field(&made, name, field.kind, kind)?;
        }
        let definition = Defn::from_layer(&made);
        for (shape, values) in &layer.features {
            let mut feature = Feature::new(&definition)?;
            feature.set_geometry(OgrGeometry::from_wkb(&well_known_binary(shape))?)?;
            for (index, value) in values.iter().enumerate() {
                match value {
                    Value::Null => feature.set_field_null(index)?,
                    Value::Integer(v) => feature.set_field_integer64(index, *v)?,
                    Value::Real(v) => feature.set_field_double(index, *v)?,
                    Value::Text(v) => feature.set_field_string(index, &readable(v))?,
                    Value::Boolean(v) => feature.set_field_integer(index, i32::from(*v))?,
                }
            }
            feature.create(&made)?;
        }
    }
    Ok(())
}

/// Text without the character that ends it for other programs.
pub(crate) fn readable(text: &str) -> Cow<'_, str> {
    match text.contains('\0') {
        true => text.replace('\0', " ").into(),
        false => text.into(),
    }
}

fn add_field(
    layer: &gdal::vector::Layer,
    name: &str,
    sort: FieldKind,
    kind: OGRFieldType::Type,
) -> Result<()> {
    let text = CString::new(name).unwrap_or_default();
    // SAFETY: the layer lives through the calls; the definition is copied by it and freed here.
    let status = unsafe {
        let definition = gdal_sys::OGR_Fld_Create(text.as_ptr(), kind);
        if sort == FieldKind::Boolean {
            gdal_sys::OGR_Fld_SetSubType(definition, gdal_sys::OGRFieldSubType::OFSTBoolean);
        }
        let status = gdal_sys::OGR_L_CreateField(layer.c_layer(), definition, 1);
        gdal_sys::OGR_Fld_Destroy(definition);
        status
    };
    if status == gdal_sys::OGRErr::OGRERR_NONE {
        return Ok(());
    }
    Err(crate::Error::Io(std::io::Error::other(format!("the field {name} cannot be written"))))
}

/// OGC well-known binary, little-endian.
pub(crate) fn well_known_binary(shape: &Geometry) -> Vec<u8> {
    let mut out = Vec::new();
    let head = |kind: u32, out: &mut Vec<u8>| {
        out.push(1);
        out.extend(kind.to_le_bytes());
    };
    let points = |list: &[[f64; 2]], out: &mut Vec<u8>| {
        out.extend((list.len() as u32).to_le_bytes());
        for [x, y] in list {
            out.extend(x.to_le_bytes());
            out.extend(y.to_le_bytes());
        }
    };
    match shape {
        Geometry::Point([x, y]) => {
            head(1, &mut out);
            out.extend(x.to_le_bytes());
            out.extend(y.to_le_bytes());
        }
        Geometry::Line(line) => {
            head(2, &mut out);
            points(line, &mut out);
        }
        Geometry::Polygons(polygons) => {
            head(6, &mut out);
            out.extend((polygons.len() as u32).to_le_bytes());
            for rings in polygons {
                head(3, &mut out);
                out.extend((rings.len() as u32).to_le_bytes());
                for ring in rings {
                    points(ring, &mut out);
                }
            }
        }
    }
    out
}
