//! Headless Chromium, driven through WebDriver.

use std::future::Future;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use fantoccini::elements::Element;
use fantoccini::error::{CmdError, ErrorStatus};
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::json;

use crate::support::{PATIENCE, Service};

/// A driver of its own for one test, killed with it.
struct Driver {
    child: Child,
    port: u16,
}

impl Driver {
    fn start() -> Self {
        // Drivers that start in one moment can choose one port for both, for IPv4 and for
        // IPv6: then one of them ends at once.
        (0..5).find_map(|_| Driver::try_start()).expect("chromedriver says its port")
    }

    fn try_start() -> Option<Self> {
        let mut child = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is installed by `make test`");
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let port = lines.by_ref().map_while(Result::ok).find_map(|line| {
            let (_, port) = line.split_once("started successfully on port ")?;
            port.trim_end_matches('.').parse().ok()
        });
        let Some(port) = port else {
            let _ = child.kill();
            let _ = child.wait();
            return None;
        };
        std::thread::spawn(move || lines.for_each(drop));
        Some(Driver { child, port })
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A page in the browser.
pub struct Page {
    pub client: Client,
}

/// Runs `test` with a page of this size, in pixels; the browser ends with it,
/// however it ends.
pub fn with_page<F: Future<Output = ()>>(size: (u32, u32), test: impl FnOnce(Page) -> F) {
    let driver = Driver::start();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let options = json!({
            "args": [
                "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage",
                "--hide-scrollbars", "--force-device-scale-factor=1",
                format!("--window-size={},{}", size.0, size.1),
            ],
        });
        let wanted = json!({ "goog:chromeOptions": options }).as_object().unwrap().clone();
        let client = ClientBuilder::new(HttpConnector::new())
            .capabilities(wanted)
            .connect(&format!("http://127.0.0.1:{}", driver.port))
            .await
            .expect("Chromium starts");
        test(Page { client: client.clone() }).await;
        client.close().await.unwrap();
    });
}

impl Page {
    pub async fn go(&self, service: &Service, path: &str) {
        self.client.goto(&service.url(path)).await.unwrap();
    }

    /// Signs in by the link that carries the token, and waits for the gates.
    pub async fn sign_in(&self, service: &Service) {
        self.go(service, &format!("/sign-in?next=%2Fgates#{}", service.token)).await;
        self.find("//h1[text()='Gates']").await;
    }

    /// Sets the size of the page itself, in pixels.
    pub async fn resize(&self, width: u32, height: u32) {
        let metrics = json!({
            "cmd": "Emulation.setDeviceMetricsOverride",
            "params": { "width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 600 },
        });
        self.chromium(metrics).await;
    }

    /// Has the system prefer dark colours, or light ones.
    pub async fn dark(&self, dark: bool) {
        let value = if dark { "dark" } else { "light" };
        let features = json!([{ "name": "prefers-color-scheme", "value": value }]);
        let params = json!({ "features": features });
        self.chromium(json!({ "cmd": "Emulation.setEmulatedMedia", "params": params })).await;
    }

    async fn chromium(&self, command: serde_json::Value) {
        self.client.issue_cmd(Chromium(command)).await.unwrap();
    }

    /// The element at this XPath, once it is there.
    pub async fn find(&self, xpath: &str) -> Element {
        let found = self
            .client
            .wait()
            .at_most(PATIENCE)
            .every(Duration::from_millis(50))
            .for_element(Locator::XPath(xpath))
            .await;
        match found {
            Ok(found) => found,
            Err(error) => {
                let shown = self.script("return document.body.innerText").await;
                panic!("no {xpath}: {error}; the page says {shown}")
            }
        }
    }

    /// Waits until the text is somewhere on the page.
    pub async fn see(&self, text: &str) {
        self.find(&format!("//body[contains(normalize-space(.), \"{text}\")]")).await;
    }

    pub async fn has(&self, xpath: &str) -> bool {
        self.client.find(Locator::XPath(xpath)).await.is_ok()
    }

    /// Clicks the element at this XPath, as a person does: again when the page drew it
    /// anew, or something moved over it, between looking and clicking.
    pub async fn click(&self, xpath: &str) {
        let begun = Instant::now();
        while let Err(error) = self.find(xpath).await.click().await {
            let covered = matches!(
                &error,
                CmdError::Standard(told) if told.error == ErrorStatus::ElementClickIntercepted
            );
            let passing = covered
                || error.is_stale_element_reference()
                || error.is_element_not_interactable();
            assert!(passing && begun.elapsed() < PATIENCE, "{xpath} cannot be clicked: {error}");
            if covered {
                // As a person does with what lies behind the bar; it may be gone by now.
                let target = serde_json::to_value(&self.find(xpath).await).unwrap();
                let _ = self
                    .client
                    .execute("arguments[0].scrollIntoView({block: 'center'})", vec![target])
                    .await;
            }
        }
    }

    /// Clicks the button or link with this text, once it can be.
    pub async fn press(&self, text: &str) {
        self.click(&format!("(//button|//a)[not(@disabled)][normalize-space(.)=\"{text}\"]")).await;
    }

    /// Types into the field at this XPath, in place of what it has: by keys, as a person
    /// does, since the page hears of nothing else.
    pub async fn type_in(&self, xpath: &str, text: &str) {
        const ALL_AWAY: &str = "\u{e009}a\u{e000}\u{e003}";
        self.find(xpath).await.send_keys(&format!("{ALL_AWAY}{text}")).await.unwrap();
    }

    /// What a script returns.
    pub async fn script(&self, script: &str) -> serde_json::Value {
        self.client.execute(script, Vec::new()).await.unwrap()
    }
}

/// A command of Chromium's own, beside the standard ones.
#[derive(Debug)]
struct Chromium(serde_json::Value);

impl fantoccini::wd::WebDriverCompatibleCommand for Chromium {
    fn endpoint(
        &self,
        base: &url::Url,
        session: Option<&str>,
    ) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/goog/cdp/execute", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        (http::Method::POST, Some(self.0.to_string()))
    }
}
