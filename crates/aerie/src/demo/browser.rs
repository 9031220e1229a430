//! A headless Chromium for the tour and the benchmarks, driven over WebDriver (W3C) with an authenticator of its own (WebAuthn level 2 section 11).

use crate::Failure;
use serde_json::{Value, json};
use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// Key of an element's identifier in WebDriver's answers.
const ELEMENT: &str = "element-6066-11e4-a52e-4f735466cecf";
/// How Chromium is started: no screen, and nothing but what it is told to do.
pub const CHROMIUM_FLAGS: [&str; 11] = [
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-dev-shm-usage",
    "--window-size=1280,800",
    // Whoever shares their screen shares the page of this title.
    "--auto-select-tab-capture-source-by-title=What the plotter says",
];
/// How long something may take to appear.
const PATIENCE: Duration = Duration::from_secs(20);

/// A browser with one page.
pub struct Browser {
    http: reqwest::Client,
    session: String,
    driver: Child,
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

fn failed(what: &str, why: impl std::fmt::Display) -> Failure {
    Failure::internal(format!("the browser: {what}: {why}"))
}

/// How often a driver that ends before it says its port is started again.
const TRIES: u32 = 3;

/// Starts the driver, and waits for its port; none where it ends before it says one.
fn start_driver() -> std::io::Result<(Child, Option<u16>)> {
    let mut command = Command::new("chromedriver");
    let mut driver = command.arg("--port=0").stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn()?;
    let lines = driver.stdout.take().map(|out| BufReader::new(out).lines());
    let said = lines.and_then(|mut lines| lines.by_ref().map_while(Result::ok).find(|l| l.contains("started successfully on port")));
    let port = said.and_then(|l| l.rsplit(' ').next()?.trim_end_matches('.').parse().ok());
    Ok((driver, port))
}

impl Browser {
    /// Starts one; none where Chromium's driver is not installed. `any_certificate` takes a service's own authority as it comes.
    ///
    /// # Errors
    /// When it does not come up.
    pub async fn start(any_certificate: bool) -> Result<Option<Self>, Failure> {
        let mut tries = 0;
        let (driver, port) = loop {
            let started = tokio::task::spawn_blocking(start_driver).await.map_err(|e| failed("start", e))?;
            match started {
                Err(_) => return Ok(None),
                Ok((driver, Some(port))) => break (driver, port),
                // The port that it chose was taken from under it, by whoever else starts one now.
                Ok((mut driver, None)) if tries < TRIES => {
                    let _ = (driver.kill(), driver.wait());
                    tries += 1;
                }
                Ok(_) => return Err(failed("start", "the driver does not say its port")),
            }
        };
        aerie_client::provide_tls();
        let mut browser = Self { http: reqwest::Client::new(), session: format!("http://127.0.0.1:{port}/session"), driver };
        let wanted = json!({ "capabilities": { "alwaysMatch": { "browserName": "chrome", "acceptInsecureCerts": any_certificate, "goog:chromeOptions": { "args": CHROMIUM_FLAGS } } } });
        let begun = browser.post("", wanted).await?;
        let id = begun.get("sessionId").and_then(Value::as_str).ok_or_else(|| failed("start", "no session"))?;
        browser.session = format!("{}/{id}", browser.session);
        let options = json!({ "protocol": "ctap2", "transport": "internal", "hasResidentKey": true, "hasUserVerification": true, "isUserVerified": true });
        browser.post("/webauthn/authenticator", options).await?;
        Ok(Some(browser))
    }

    async fn get(&self, path: &str) -> Result<Value, Failure> {
        self.call(path, self.http.get(format!("{}{path}", self.session))).await
    }

    async fn post(&self, path: &str, body: Value) -> Result<Value, Failure> {
        self.call(path, self.http.post(format!("{}{path}", self.session)).json(&body)).await
    }

    async fn call(&self, path: &str, request: reqwest::RequestBuilder) -> Result<Value, Failure> {
        let answer = request.send().await.map_err(|e| failed(path, e))?;
        let good = answer.status().is_success();
        let value: Value = answer.json().await.map_err(|e| failed(path, e))?;
        let value = value.get("value").cloned().unwrap_or_default();
        let why = value.get("message").and_then(Value::as_str).unwrap_or("refused").lines().next().unwrap_or_default().to_string();
        if good { Ok(value) } else { Err(failed(path, why)) }
    }

    /// Opens a page.
    ///
    /// # Errors
    /// What the browser says.
    pub async fn goto(&self, url: &str) -> Result<(), Failure> {
        self.post("/url", json!({ "url": url })).await.map(drop)
    }

    /// Waits for an element, and gives its path.
    async fn find(&self, css: &str) -> Result<String, Failure> {
        let began = std::time::Instant::now();
        loop {
            let found = self.post("/element", json!({ "using": "css selector", "value": css })).await;
            match found {
                Ok(e) => {
                    let id = e.get(ELEMENT).and_then(Value::as_str).unwrap_or_default();
                    return Ok(format!("/element/{id}"));
                }
                Err(e) if began.elapsed() > PATIENCE => return Err(e),
                Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
            }
        }
    }

    pub(super) async fn click(&self, css: &str) -> Result<(), Failure> {
        let element = self.find(css).await?;
        self.post(&format!("{element}/click"), json!({})).await.map(drop)
    }

    pub(super) async fn enter(&self, css: &str, text: &str) -> Result<(), Failure> {
        let element = self.find(css).await?;
        self.post(&format!("{element}/value"), json!({ "text": text })).await.map(drop)
    }

    /// Waits until an element says something, and gives all that it says.
    ///
    /// # Errors
    /// When it does not within twenty seconds.
    pub async fn says(&self, css: &str, text: &str) -> Result<String, Failure> {
        let began = std::time::Instant::now();
        loop {
            let script = "return document.querySelector(arguments[0])?.textContent?.replace(/\\s+/g, ' ').trim() ?? ''";
            let seen = self.post("/execute/sync", json!({ "script": script, "args": [css] })).await?;
            let seen = seen.as_str().unwrap_or_default().to_string();
            if seen.contains(text) {
                return Ok(seen);
            }
            if began.elapsed() > PATIENCE {
                return Err(failed(css, format!("says `{seen}` and not `{text}`")));
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// A call of the API from the page, as whoever is signed in there: status and answer.
    pub(super) async fn api(&self, method: &str, path: &str, body: Value) -> Result<(u64, Value), Failure> {
        let script = "const [method, path, body, done] = arguments; \
             fetch('/api/v1' + path, { method, headers: { 'content-type': 'application/json' }, body: method === 'GET' ? undefined : JSON.stringify(body) }) \
             .then(async (r) => done([r.status, await r.json().catch(() => null)]), (e) => done([0, String(e)]))";
        let answer = self.post("/execute/async", json!({ "script": script, "args": [method, path, body] })).await?;
        let status = answer.get(0).and_then(Value::as_u64).unwrap_or(0);
        Ok((status, answer.get(1).cloned().unwrap_or_default()))
    }

    /// Runs a script in the page, and gives what it returns.
    ///
    /// # Errors
    /// What the browser says.
    pub async fn run(&self, script: &str) -> Result<Value, Failure> {
        self.post("/execute/sync", json!({ "script": script, "args": [] })).await
    }

    /// Waits for either of two elements: whether it is the first.
    ///
    /// # Errors
    /// When neither comes.
    pub(super) async fn either(&self, first: &str, second: &str) -> Result<bool, Failure> {
        self.find(&format!("{first}, {second}")).await?;
        let script = "return document.querySelector(arguments[0]) !== null";
        let seen = self.post("/execute/sync", json!({ "script": script, "args": [first] })).await?;
        Ok(seen.as_bool() == Some(true))
    }

    /// Opens a page in a window beside this one, and waits until it is there.
    ///
    /// # Errors
    /// What the browser says, or that the page does not come.
    pub(super) async fn open_beside(&self, url: &str, title: &str) -> Result<(), Failure> {
        let here = self.get("/window").await?;
        let beside = self.post("/window/new", json!({ "type": "window" })).await?;
        self.post("/window", json!({ "handle": beside.get("handle") })).await?;
        self.goto(url).await?;
        let began = std::time::Instant::now();
        while self.get("/title").await?.as_str() != Some(title) {
            if began.elapsed() > PATIENCE {
                return Err(failed(url, "the page does not come"));
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        self.post("/window", json!({ "handle": here })).await.map(drop)
    }

    /// Keeps a cookie for the service whose page is open.
    ///
    /// # Errors
    /// What the browser says.
    pub async fn cookie(&self, name: &str, value: &str) -> Result<(), Failure> {
        let cookie = json!({ "name": name, "value": value, "path": "/", "secure": true, "httpOnly": true, "sameSite": "Strict" });
        self.post("/cookie", json!({ "cookie": cookie })).await.map(drop)
    }

    /// Closes it.
    pub async fn quit(self) {
        let _ = self.http.delete(&self.session).send().await;
    }
}
