//! Every control that the pages can show has been used by a browser test, as a person would: clicked, changed, pressed.
//!
//! The browser tests of `site` write down what they used; this test comes after them. A control that answers at its address,
//! but does nothing on the page, passes no longer.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use serde::Deserialize;

/// Something that was used.
#[derive(Debug, Deserialize)]
#[serde(untagged)]
enum Used {
    Control(Control),
    Key { key: String },
}

/// A control: its tag, its attributes, those of the form that it belongs to, and the words on it.
#[derive(Debug, Clone, Deserialize)]
struct Control {
    tag: String,
    attributes: std::collections::BTreeMap<String, String>,
    form: Option<std::collections::BTreeMap<String, String>>,
    text: String,
}

fn used() -> Vec<Used> {
    let directory = Path::new(env!("CARGO_TARGET_TMPDIR")).join("used-controls");
    let files = std::fs::read_dir(&directory).unwrap_or_else(|_| {
        panic!("the browser tests have not written down what they used; run “./bothros test”, or “cargo test --test site”")
    });
    let read = |entry: std::io::Result<std::fs::DirEntry>| -> Vec<String> {
        serde_json::from_str(&std::fs::read_to_string(entry.unwrap().path()).unwrap()).unwrap()
    };
    files.flat_map(read).map(|text| serde_json::from_str(&text).unwrap()).collect()
}

fn templates() -> Vec<PathBuf> {
    let mut open = vec![Path::new(env!("CARGO_MANIFEST_DIR")).join("../web/templates")];
    let mut found = Vec::new();
    while let Some(directory) = open.pop() {
        for entry in std::fs::read_dir(directory).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => open.push(path),
                false => found.push(path),
            }
        }
    }
    found.sort();
    found
}

/// What a template can render, with `*` for whatever it fills in and without its conditions.
fn plain(template: &str) -> String {
    let mut out = String::new();
    let mut rest = template;
    while let Some(at) = rest.find(['{']) {
        let (before, after) = rest.split_at(at);
        out.push_str(before);
        let (end, instead) = match after.as_bytes().get(1) {
            Some(b'{') => ("}}", "*"),
            Some(b'%') => ("%}", ""),
            Some(b'#') => ("#}", ""),
            _ => ("{", "{"),
        };
        let to = after.find(end).unwrap() + end.len();
        out.push_str(instead);
        rest = &after[to..];
    }
    out + rest
}

/// The attributes inside a tag.
fn attributes(inside: &str) -> std::collections::BTreeMap<String, String> {
    let mut found = std::collections::BTreeMap::new();
    let mut rest = inside.trim();
    while !rest.is_empty() {
        let end = rest.find(['=', ' ', '\n', '\t']).unwrap_or(rest.len());
        let name = rest[..end].trim().to_lowercase();
        rest = rest[end..].trim_start();
        let mut value = String::new();
        if let Some(after) = rest.strip_prefix('=') {
            let quote = after.chars().next().unwrap();
            if quote == '"' || quote == '\'' {
                let close = after[1..].find(quote).unwrap() + 1;
                value = after[1..close].to_owned();
                rest = after[close + 1..].trim_start();
            } else {
                let close = after.find([' ', '\n']).unwrap_or(after.len());
                value = after[..close].to_owned();
                rest = after[close..].trim_start();
            }
        }
        if !name.is_empty() {
            found.insert(name, value.replace("&amp;", "&"));
        }
    }
    found
}

/// The controls of a template.
fn controls(template: &str) -> Vec<Control> {
    let text = plain(template);
    let mut form = None;
    let mut found = Vec::new();
    let mut rest = text.as_str();
    while let Some(at) = rest.find('<') {
        rest = &rest[at + 1..];
        // A “>” inside a quoted value ends no tag.
        let mut quoted = None;
        let end = rest.char_indices().find(|&(_, c)| {
            match (quoted, c) {
                (None, '"' | '\'') => quoted = Some(c),
                (Some(q), c) if q == c => quoted = None,
                _ => {}
            }
            quoted.is_none() && c == '>'
        });
        let Some((end, _)) = end else { break };
        let inside = &rest[..end];
        rest = &rest[end + 1..];
        let name = inside.split([' ', '\n']).next().unwrap_or_default();
        match name {
            "form" => form = Some(attributes(&inside[4..])),
            "/form" => form = None,
            "a" | "button" | "input" | "select" | "textarea" | "summary" => {
                let attributes = attributes(&inside[name.len()..]);
                // What follows, up to the end of the element, is what stands on it.
                let close = rest.find(&format!("</{name}>")).unwrap_or(0);
                let words = if name == "input" { "" } else { &rest[..close] };
                let mut told = String::new();
                let mut within = false;
                for c in words.chars() {
                    match c {
                        '<' => within = true,
                        '>' => within = false,
                        c if !within => told.push(c),
                        _ => {}
                    }
                }
                let text = told.split_whitespace().collect::<Vec<_>>().join(" ");
                if attributes.get("type").map(String::as_str) != Some("hidden") {
                    found.push(Control { tag: name.to_owned(), attributes, form: form.clone(), text });
                }
            }
            _ => {}
        }
    }
    found
}

/// Whether a value is what a pattern with `*` can become.
fn fits(pattern: &str, value: &str) -> bool {
    let mut parts = pattern.split('*');
    let Some(mut rest) = value.strip_prefix(parts.next().unwrap_or_default()) else { return false };
    let parts: Vec<&str> = parts.collect();
    for (at, part) in parts.iter().enumerate() {
        let last = at + 1 == parts.len();
        match (last, rest.find(part)) {
            (true, _) => return rest.ends_with(part),
            (false, Some(found)) => rest = &rest[found + part.len()..],
            (false, None) => return false,
        }
    }
    rest.is_empty()
}

/// Attributes by which a control is told from others.
fn tells(name: &str) -> bool {
    ["id", "name", "href", "action"].contains(&name)
        || name.starts_with("hx-post")
        || name.starts_with("data-")
}

fn same(wanted: &Control, used: &Control) -> bool {
    let agree = |wanted: &std::collections::BTreeMap<String, String>,
                 used: &std::collections::BTreeMap<String, String>| {
        wanted
            .iter()
            .filter(|(name, _)| tells(name))
            .all(|(name, pattern)| used.get(name).is_some_and(|value| fits(pattern, value)))
    };
    let named = wanted.attributes.keys().any(|name| tells(name));
    wanted.tag == used.tag
        && agree(&wanted.attributes, &used.attributes)
        && match (&wanted.form, &used.form) {
            (Some(wanted), Some(used)) => agree(wanted, used),
            (Some(_), None) => named,
            (None, _) => true,
        }
        && (named || wanted.form.is_some() || fits(&wanted.text, &used.text))
}

fn told(control: &Control) -> String {
    let list = |of: &std::collections::BTreeMap<String, String>| {
        let kept: Vec<String> =
            of.iter().filter(|(n, _)| tells(n)).map(|(n, v)| format!("{n}={v:?}")).collect();
        kept.join(" ")
    };
    let form = control.form.as_ref().map_or(String::new(), |form| format!(" in form {}", list(form)));
    format!("<{} {}> “{}”{form}", control.tag, list(&control.attributes), control.text)
}

#[test]
fn every_control_of_the_pages_is_used_by_a_browser_test() {
    let used: Vec<Control> =
        used().into_iter().filter_map(|u| if let Used::Control(c) = u { Some(c) } else { None }).collect();
    assert!(!used.is_empty());
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../web/templates");
    let mut missing = Vec::new();
    for path in templates() {
        let name = path.strip_prefix(&root).unwrap().display().to_string();
        for control in controls(&std::fs::read_to_string(&path).unwrap()) {
            if !used.iter().any(|u| same(&control, u)) {
                missing.push(format!("{name}: {}", told(&control)));
            }
        }
    }
    assert!(
        missing.is_empty(),
        "{} controls that no browser test has used:\n{}",
        missing.len(),
        missing.join("\n")
    );
}

/// The keys that a line of the help names, as the browser calls them.
fn named(keys: &str) -> Vec<String> {
    match keys {
        "1 – 5" => (1..=5).map(|n| n.to_string()).collect(),
        "Arrows, + and −" => {
            ["ArrowUp", "ArrowDown", "ArrowLeft", "ArrowRight", "+", "-"].map(String::from).to_vec()
        }
        ", and ." => vec![",".into(), ".".into()],
        "[ and ]" => vec!["[".into(), "]".into()],
        "Esc" => vec!["Escape".into()],
        keys => keys.split(", ").map(|key| key.trim_start_matches("Shift+").to_owned()).collect(),
    }
}

#[test]
fn every_key_of_the_help_is_pressed_by_a_browser_test() {
    let pressed: BTreeSet<String> = used()
        .into_iter()
        .filter_map(|u| if let Used::Key { key } = u { Some(key.to_uppercase()) } else { None })
        .collect();
    let help =
        std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../web/src/shell/help.rs"))
            .unwrap();
    let list = help.split("pub const KEYS").nth(1).and_then(|rest| rest.split("];").next()).unwrap();
    let told: Vec<&str> =
        list.lines().filter_map(|line| line.trim().strip_prefix("(\"")?.split('"').next()).collect();
    assert!(told.len() > 15, "{told:?}");
    let keys: Vec<String> = told.iter().flat_map(|keys| named(keys)).collect();
    let missing: BTreeSet<&String> =
        keys.iter().filter(|key| !pressed.contains(&key.to_uppercase())).collect();
    assert!(missing.is_empty(), "keys that no browser test has pressed: {missing:?}");
}

#[test]
fn templates_are_read_as_they_are_rendered() {
    let template = r#"{% for p in points %}<form hx-post="/points/{{ p.id }}/rename"{% if x %} class="a>b"{% endif %}>
        <input name="name" value="{{ p.name }}"><input type="hidden" name="x"><button>Save <b>now</b></button></form>{% endfor %}
        <summary>More</summary>"#;
    let found = controls(template);
    assert_eq!(found.len(), 3, "{found:?}");
    assert_eq!(found[1].text, "Save now");
    assert_eq!(found[1].form.as_ref().unwrap()["hx-post"], "/points/*/rename");
    assert!(found[2].form.is_none());
    assert!(fits("/points/*/rename", "/points/12/rename") && !fits("/points/*/rename", "/points/12/delete"));
    assert!(fits("*", "") && fits("a*b*", "axxbyy") && !fits("a", "ab"));
}
