//! Answers that come while somebody types: nothing that is typed is lost, and the keyboard stays where it is.

use thirtyfour::prelude::*;

use crate::support::browser::{browser, until, value};
use crate::support::hand::Hand;
use crate::support::{Site, valley_file};

/// From now on a desk takes this long, s.
const SLOW: &str = "const quick = window.fetch; window.desks = 0; window.fetch = async (...a) => { \
    const desk = String(a[0]).includes('/desk/'); \
    const answer = await quick(...a); \
    if (desk) { await new Promise((r) => setTimeout(r, 700)); window.desks += 1; } \
    return answer; }";

#[tokio::test(flavor = "multi_thread")]
async fn what_is_typed_while_an_answer_arrives_is_kept() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "Typed at once").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "conditioning", "settings").await;
    driver.execute(SLOW, vec![]).await.unwrap();
    // A choice, and at once a figure in the field below, half typed when the desk of the choice comes.
    hand.picks("#sinks", "breach within the limits, fill").await;
    let field = driver.find(By::Id("max-fill")).await.unwrap();
    field.click().await.unwrap();
    field.send_keys("1").await.unwrap();
    until(driver, "window.desks > 0").await;
    field.send_keys("2").await.unwrap();
    assert_eq!(value(driver, "document.getElementById('max-fill').value").await, "12");
    field.send_keys(Key::Tab).await.unwrap();
    // The next field is filled in before the answer to the one before is there.
    let next = driver.active_element().await.unwrap();
    next.send_keys("300").await.unwrap();
    driver.active_element().await.unwrap().send_keys(Key::Tab).await.unwrap();
    hand.rests().await;
    until(driver, "document.getElementById('max-fill').defaultValue === '12'").await;
    until(driver, "document.getElementById('breach-length').defaultValue === '300'").await;
    let choices = site.store().study(study).await.unwrap().settings["conditioning"].clone();
    assert_eq!(
        (&choices["sinks"], &choices["max_fill_depth_m"], &choices["breach_length_m"]),
        (&"breach_then_fill".into(), &12.0.into(), &300.0.into()),
        "{choices}"
    );
    // The keyboard is where Tab led to, on the desk that came anew.
    assert_eq!(value(driver, "document.activeElement.id").await, "breach-depth");
    // A field in which nothing is typed does not keep undo from the study.
    driver.active_element().await.unwrap().send_keys(Key::Control + "z").await.unwrap();
    until(driver, "document.getElementById('breach-length').defaultValue === ''").await;
}
