//! Which controls the browser tests use, as a person would: written down for the test that comes after them all.

use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use thirtyfour::prelude::*;

/// Where each browser writes what was used in it.
fn directory() -> &'static Path {
    static DIRECTORY: OnceLock<PathBuf> = OnceLock::new();
    DIRECTORY.get_or_init(|| {
        let directory = Path::new(env!("CARGO_TARGET_TMPDIR")).join("used-controls");
        // What was used before these tests counts no more.
        let _ = std::fs::remove_dir_all(&directory);
        std::fs::create_dir_all(&directory).unwrap();
        directory
    })
}

/// Notes in each page what is clicked, changed and pressed. Only what comes from a person or the driver counts: what a
/// script does is not trusted.
const NOTE: &str = r#"
(() => {
  const KEY = 'bothros.test.used';
  performance.setResourceTimingBufferSize(50000);
  const CONTROL = 'a, button, input, select, textarea, summary';
  const attributes = (of) => Object.fromEntries([...of.attributes].map(({ name, value }) => [name, value]));
  const add = (what) => {
    try {
      const all = new Set(JSON.parse(localStorage.getItem(KEY) ?? '[]'));
      all.add(JSON.stringify(what));
      localStorage.setItem(KEY, JSON.stringify([...all]));
    } catch {}
  };
  const note = (e) => {
    if (!e.isTrusted || !(e.target instanceof Element)) return;
    const label = e.target.closest('label');
    const control = e.target.closest(CONTROL) ?? label?.control;
    if (!control) return;
    add({
      tag: control.tagName.toLowerCase(),
      attributes: attributes(control),
      form: control.closest('form') ? attributes(control.closest('form')) : null,
      text: control.textContent.trim().replace(/\s+/g, ' ').slice(0, 80),
    });
  };
  for (const type of ['click', 'change', 'input']) addEventListener(type, note, true);
  addEventListener('keydown', (e) => {
    if (!e.isTrusted) return;
    const typing = e.target instanceof Element && e.target.matches('input, textarea, select');
    if (!typing || e.ctrlKey || e.key.length > 1) add({ key: `${e.ctrlKey ? 'Ctrl+' : ''}${e.key}` });
    if (['Enter', ' '].includes(e.key)) note(e);
  }, true);
})();
"#;

/// Begins to note what is used in a browser.
pub async fn note(driver: &WebDriver) {
    let address =
        format!("{}session/{}/goog/cdp/execute", driver.handle().server_url(), driver.handle().session_id());
    let command =
        serde_json::json!({ "cmd": "Page.addScriptToEvaluateOnNewDocument", "params": { "source": NOTE } });
    let answer = reqwest::Client::new().post(address).json(&command).send().await.unwrap();
    assert!(answer.status().is_success(), "{}", answer.text().await.unwrap());
}

/// Writes down what was used in a browser, which is about to end.
pub fn write_down(driver: &WebDriver) {
    let address =
        format!("{}session/{}/execute/sync", driver.handle().server_url(), driver.handle().session_id());
    let name = format!("{}.json", driver.handle().session_id());
    let asked = std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().ok()?;
        let script =
            serde_json::json!({ "script": "return localStorage.getItem('bothros.test.used')", "args": [] });
        runtime.block_on(async {
            let client =
                reqwest::Client::builder().timeout(std::time::Duration::from_secs(10)).build().ok()?;
            let answer: serde_json::Value =
                client.post(address).json(&script).send().await.ok()?.json().await.ok()?;
            answer["value"].as_str().map(str::to_owned)
        })
    });
    // A test that has failed, or is at another address at its end, notes nothing.
    if let Ok(Some(used)) = asked.join() {
        let _ = std::fs::write(directory().join(name), used);
    }
}
