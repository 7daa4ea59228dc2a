//! A hand: what a person does with the controls of a page, and what the page then sends.

use std::future::Future;
use std::path::Path;

use thirtyfour::error::WebDriverErrorInner;
use thirtyfour::prelude::*;

use super::Site;
use super::browser::{click, press, until, value};

pub struct Hand<'a> {
    pub driver: &'a WebDriver,
}

impl Hand<'_> {
    pub async fn opens(&self, site: &Site, study: i64, stage: &str, section: &str) {
        let address = format!("{}/studies/{study}/?stage={stage}&section={section}", site.base);
        self.driver.goto(&address).await.unwrap();
        until(self.driver, "document.body.dataset.ready === 'yes'").await;
    }

    /// Shows the section, and opens what folds, that a control stands in.
    async fn reveal(&self, selector: &str) {
        until(self.driver, &format!("document.querySelector({selector:?})")).await;
        let section = "return document.querySelector(arguments[0])?.closest('[data-section][hidden]')?.dataset.section ?? null";
        let hidden = self.driver.execute(section, vec![selector.into()]).await.unwrap().json().clone();
        if let Some(section) = hidden.as_str() {
            click(self.driver, &format!("[data-to-section={section}]")).await;
        }
        // The outermost that is folded first.
        let folded = "for (const e of document.querySelectorAll('[data-to-open]')) delete e.dataset.toOpen; \
            const e = document.querySelector(arguments[0]); let found = null; \
            for (let d = e?.parentElement?.closest('details'); d; d = d.parentElement?.closest('details')) \
                if (!d.open && !d.querySelector(':scope > summary')?.contains(e)) found = d; \
            if (found) found.querySelector(':scope > summary').dataset.toOpen = ''; return !!found";
        while self.driver.execute(folded, vec![selector.into()]).await.unwrap().json()
            == &serde_json::json!(true)
        {
            click(self.driver, "[data-to-open]").await;
        }
    }

    pub async fn clicks(&self, selector: &str) {
        self.reveal(selector).await;
        click(self.driver, selector).await;
    }

    /// Does something with a control, which may be fetched anew at this moment.
    async fn with<F: Future<Output = WebDriverResult<()>>>(
        &self,
        selector: &str,
        act: impl Fn(WebElement) -> F,
    ) {
        self.reveal(selector).await;
        for _ in 0..10 {
            let element = self.driver.query(By::Css(selector)).first().await.unwrap();
            let done = match element.scroll_into_view().await {
                Ok(()) => act(element).await,
                Err(error) => Err(error),
            };
            match done.as_ref().map_err(|e| e.as_inner()) {
                Err(WebDriverErrorInner::StaleElementReference(_)) => {}
                // It was drawn anew under the hand.
                Err(WebDriverErrorInner::ElementNotInteractable(_)) => self.rests().await,
                _ => return done.unwrap_or_else(|e| panic!("{selector}: {e}")),
            }
        }
        panic!("{selector} never rests");
    }

    /// Types where the focus is.
    pub async fn writes(&self, keys: impl Into<TypingData>) {
        self.driver.active_element().await.unwrap().send_keys(keys).await.unwrap();
    }

    /// Types into a field in the place of what is there, and leaves it.
    pub async fn types(&self, selector: &str, text: &str) {
        let text = text.to_owned();
        self.with(selector, |field| {
            let text = text.clone();
            async move {
                field.click().await?;
                field.send_keys(Key::Control + "a").await?;
                field.send_keys(text + Key::Tab).await
            }
        })
        .await;
    }

    /// Chooses from a select by the first letters of an option.
    pub async fn picks(&self, selector: &str, letters: &str) {
        let letters = letters.to_owned();
        self.with(selector, |field| {
            let letters = letters.clone();
            async move { field.send_keys(letters).await }
        })
        .await;
    }

    /// Gives files to a field.
    pub async fn gives(&self, selector: &str, files: &[&Path]) {
        let names = files.iter().map(|f| f.to_str().unwrap()).collect::<Vec<_>>().join("\n");
        self.with(selector, |field| {
            let names = names.clone();
            async move { field.send_keys(names).await }
        })
        .await;
    }

    /// Requests that the page has made to addresses with this end, and that were answered well.
    async fn sent(&self, end: &str) -> u64 {
        let count = format!(
            "performance.getEntriesByType('resource').filter(e => ['fetch', 'xmlhttprequest'].includes(e.initiatorType) \
             && new URL(e.name).pathname.endsWith('{end}') && e.responseStatus >= 200 && e.responseStatus < 400).length"
        );
        value(self.driver, &count).await.as_u64().unwrap()
    }

    /// Does something, and waits until the page has sent it to an address with this end and was answered well.
    pub async fn sends(&self, end: &str, act: impl Future<Output = ()>) {
        let before = self.sent(end).await;
        act.await;
        let now = format!(
            "performance.getEntriesByType('resource').filter(e => ['fetch', 'xmlhttprequest'].includes(e.initiatorType) \
             && new URL(e.name).pathname.endsWith('{end}') && e.responseStatus >= 200 && e.responseStatus < 400).length > {before}"
        );
        until(self.driver, &now).await;
        self.rests().await;
    }

    /// Waits until nothing is on its way, the desk is of now, and no job runs.
    pub async fn rests(&self) {
        until(
            self.driver,
            "!document.querySelector('.htmx-request, #desk[aria-busy]') && !document.querySelector('#log [data-job]')",
        )
        .await;
    }

    /// Clicks on the map at places of the study, and ends with Enter where there is more than one.
    pub async fn draws(&self, places: &[(f64, f64)]) {
        let map = self.driver.find(By::Id("map")).await.unwrap();
        for (x, y) in places {
            self.points_at(&map, *x, *y).await;
        }
        if places.len() > 1 {
            press(self.driver, Key::Enter).await;
        }
    }

    async fn points_at(&self, map: &WebElement, x: f64, y: f64) {
        let size = value(self.driver, "bothrosMap.map.getSize()").await;
        let at = value(self.driver, &format!("bothrosMap.map.getPixelFromCoordinate([{x}, {y}])")).await;
        let offset = |i: usize| (at[i].as_f64().unwrap() - size[i].as_f64().unwrap() / 2.0).round() as i64;
        let chain = self.driver.action_chain().move_to_element_with_offset(map, offset(0), offset(1));
        chain.click().perform().await.unwrap();
        // Two clicks at once would be a double click.
        until(
            self.driver,
            "(window.lastClick ??= performance.now()) && performance.now() - window.lastClick > 300 && ((window.lastClick = null), true)",
        )
        .await;
    }

    /// Says yes to what the page asks.
    pub async fn agrees(&self) {
        self.driver.accept_alert().await.unwrap();
    }
}
