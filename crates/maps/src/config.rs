//! The list of allowed servers: a TOML file of the administrator.

use serde::Deserialize;
use url::Url;

use crate::{Error, Result};

/// A map that can be shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MapServer {
    /// what it is called on the map
    pub name: String,
    /// attribution, shown wherever it is drawn
    pub attribution: String,
    /// how it is asked
    pub access: Access,
}

/// How a server is asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Access {
    /// an address with `{z}`, `{x}` and `{y}`
    Xyz {
        /// the address
        url: String,
        /// finest level there is
        finest: u8,
    },
    /// Web Map Service
    Wms {
        /// address of the service
        url: Url,
        /// layers, separated by commas
        layer: String,
    },
    /// Web Map Tile Service
    Wmts {
        /// address of the service
        url: Url,
        /// the layer
        layer: String,
    },
}

/// Default finest level of tiles: pixels of about 0.3 m at the equator.
const FINEST: u8 = 19;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    #[serde(default)]
    map: Vec<Entry>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Entry {
    name: String,
    kind: String,
    url: String,
    attribution: String,
    layer: Option<String>,
    finest: Option<u8>,
}

/// Reads the list of servers: a TOML file with a table `[[map]]` for each, which has `name`, `kind` (`xyz`, `wms` or
/// `wmts`), `url`, `attribution`, for `wms` and `wmts` the `layer`, for `xyz` the `finest` level where that is not 19.
///
/// # Errors
/// [`Error::Config`] for what is missing, unknown or no address.
pub fn read_servers(text: &str) -> Result<Vec<MapServer>> {
    let file: File = toml::from_str(text).map_err(|e| Error::Config(e.message().to_owned()))?;
    file.map.into_iter().map(server).collect()
}

fn server(entry: Entry) -> Result<MapServer> {
    let Entry { name, kind, url, attribution, layer, finest } = entry;
    let wrong = |what: String| Error::Config(format!("“{name}”: {what}"));
    let filled = url.replace("{z}", "0").replace("{x}", "0").replace("{y}", "0");
    let address =
        Url::parse(&filled).ok().filter(|u| matches!(u.scheme(), "http" | "https") && u.host().is_some());
    let address = address
        .ok_or_else(|| wrong(format!("“{url}” is no address that begins with http:// or https://")))?;
    let layer = || layer.clone().filter(|l| !l.is_empty()).ok_or_else(|| wrong("say which “layer”".into()));
    let access = match kind.as_str() {
        "xyz" => {
            if ["{z}", "{x}", "{y}"].iter().any(|part| !url.contains(part)) {
                return Err(wrong("the address of tiles needs {z}, {x} and {y}".into()));
            }
            Access::Xyz { url: url.clone(), finest: finest.unwrap_or(FINEST).min(24) }
        }
        "wms" => Access::Wms { url: address, layer: layer()? },
        "wmts" => Access::Wmts { url: address, layer: layer()? },
        other => return Err(wrong(format!("“{other}” is no kind of server; there are xyz, wms, wmts"))),
    };
    if attribution.trim().is_empty() {
        return Err(wrong("say in “attribution” whom the map is owed to".into()));
    }
    Ok(MapServer { name: name.clone(), attribution, access })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_list_names_maps_of_three_kinds() {
        let text = r#"
            [[map]]
            name = "Aerial image"
            kind = "xyz"
            url = "https://tiles.example/{z}/{x}/{y}.jpg"
            attribution = "Survey"
            [[map]]
            name = "Topographic map"
            kind = "wms"
            url = "https://maps.example/wms?key=abc"
            layer = "topo"
            attribution = "Survey"
            [[map]]
            name = "Soils"
            kind = "wmts"
            url = "https://maps.example/wmts"
            layer = "soils"
            attribution = "Soil service"
        "#;
        let all = read_servers(text).unwrap();
        assert_eq!(
            all.iter().map(|m| m.name.as_str()).collect::<Vec<_>>(),
            ["Aerial image", "Topographic map", "Soils"]
        );
        assert!(matches!(&all[0].access, Access::Xyz { finest: 19, .. }));
        assert!(matches!(&all[1].access, Access::Wms { layer, .. } if layer == "topo"));
        assert_eq!(read_servers("").unwrap(), []);
    }

    #[rstest]
    #[case("kind = \"xyz\"\nurl = \"https://a.example/{z}/{x}\"", "{z}, {x} and {y}")]
    #[case("kind = \"wms\"\nurl = \"https://a.example/\"", "layer")]
    #[case("kind = \"wms\"\nurl = \"file:///etc/passwd\"\nlayer = \"a\"", "http://")]
    #[case("kind = \"ftp\"\nurl = \"https://a.example/\"", "xyz, wms, wmts")]
    #[case("kind = \"xyz\"\nurl = \"https://a.example/{z}/{x}/{y}\"\nstile = \"b\"", "stile")]
    fn what_is_wrong_is_said(#[case] entry: &str, #[case] expected: &str) {
        let text = format!("[[map]]\nname = \"A\"\nattribution = \"B\"\n{entry}\n");
        let told = read_servers(&text).unwrap_err().to_string();
        assert!(told.contains(expected), "{told}");
    }

    #[test]
    fn a_map_without_attribution_is_refused() {
        let text = "[[map]]\nname = \"A\"\nkind = \"xyz\"\nurl = \"https://a.example/{z}/{x}/{y}\"\nattribution = \" \"\n";
        assert!(read_servers(text).unwrap_err().to_string().contains("owed"));
    }
}
