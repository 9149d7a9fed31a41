//! A real browser without a window, driven as a person would use it, with a profile and a folder for downloads of its own.

use std::fs;
use std::io::{BufRead as _, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use thirtyfour::prelude::*;
use tokio::runtime::Runtime;
use under_seal_core::tasks::page::{PAGE, PAGE_NAME};

/// How long anything may take.
const PATIENCE: Duration = Duration::from_secs(180);

/// On a machine that has much to do, a browser sometimes does not come up at the first try.
const STARTS: usize = 3;

/// What a page is looked at on.
#[derive(Clone, Copy, PartialEq, Eq)]
#[allow(dead_code, reason = "each test file uses its part of this")]
pub enum Device {
    Computer,
    /// One whose browser gives pages that lie in files a storage, as Firefox does and Chromium does not.
    ComputerWithStorage,
}

pub struct Browser {
    runtime: Runtime,
    driver: Option<WebDriver>,
    server: Child,
    downloads: PathBuf,
}

#[allow(dead_code, reason = "each test file uses its part of this")]
impl Browser {
    /// Opens the page, from this folder, in Chromium; `None` where that, or what drives it, is not installed. In CI they are.
    pub fn with_page(folder: &Path, device: Device) -> Option<Self> {
        let started = Self::start(folder, device);
        assert!(started.is_some() || std::env::var_os("CI").is_none(), "CI needs chromium and chromedriver");
        let Some(browser) = started else {
            eprintln!("not tried: there is no Chromium that could be driven here");
            return None;
        };
        let page = folder.join(PAGE_NAME);
        fs::write(&page, PAGE).unwrap();
        browser.go_to(&page);
        Some(browser)
    }

    fn start(folder: &Path, device: Device) -> Option<Self> {
        let mut server =
            Command::new("chromedriver").arg("--port=0").stdout(Stdio::piped()).stderr(Stdio::null()).spawn().ok()?;
        let lines = BufReader::new(server.stdout.take()?).lines();
        let port = lines.map_while(Result::ok).find_map(|line| {
            line.split_once("successfully on port ").map(|(_, port)| port.trim_end_matches('.').to_owned())
        })?;
        let downloads = folder.join("downloads");
        fs::create_dir_all(&downloads).unwrap();
        let mut capabilities = DesiredCapabilities::chrome();
        for argument in ["--headless=new", "--no-sandbox", "--window-size=1280,800"] {
            capabilities.add_arg(argument).unwrap();
        }
        if device == Device::ComputerWithStorage {
            capabilities.add_arg("--allow-file-access-from-files").unwrap();
        }
        let preferences =
            serde_json::json!({ "download.default_directory": downloads, "download.prompt_for_download": false });
        capabilities.add_experimental_option("prefs", preferences).unwrap();
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let address = format!("http://127.0.0.1:{port}");
        let start = |_| runtime.block_on(WebDriver::new(&address, capabilities.clone())).ok();
        let driver = (0..STARTS).find_map(start);
        let started = driver.is_some();
        let browser = Self { runtime, driver, server, downloads };
        started.then_some(browser)
    }

    fn driver(&self) -> &WebDriver {
        self.driver.as_ref().unwrap()
    }

    pub fn go_to(&self, page: &Path) {
        self.runtime.block_on(self.driver().goto(format!("file://{}", page.display()))).unwrap();
        // Without pickers, which nobody can answer here, what is saved is downloaded.
        self.run("window.showSaveFilePicker = window.showDirectoryPicker = undefined");
    }

    /// Waits until something holds; tells what did not come, and what the page shows instead.
    fn until<T>(&self, what: &str, holds: impl Fn() -> Option<T>) -> T {
        let started = Instant::now();
        loop {
            if let Some(value) = holds() {
                return value;
            }
            assert!(started.elapsed() < PATIENCE, "{what} does not come\n{}", self.text("main"));
            std::thread::sleep(Duration::from_millis(30));
        }
    }

    fn find(&self, by: &By) -> WebElement {
        let is_shown = |element: &WebElement| self.runtime.block_on(element.is_displayed()).unwrap_or(false);
        self.until(&format!("{by:?}"), || self.runtime.block_on(self.driver().find(by.clone())).ok().filter(is_shown))
    }

    /// What an element shows, empty where it shows nothing.
    pub fn text(&self, selector: &str) -> String {
        let found = self.runtime.block_on(self.driver().find(By::Css(selector)));
        found.ok().and_then(|element| self.runtime.block_on(element.text()).ok()).unwrap_or_default()
    }

    /// Waits until an element shows one of these; what it shows then.
    pub fn wait_for(&self, selector: &str, words: &[&str]) -> String {
        self.until(&format!("{words:?} in {selector}"), || {
            Some(self.text(selector)).filter(|text| words.iter().any(|words| text.contains(words)))
        })
    }

    pub fn click(&self, text: &str) {
        let button = self.find(&By::XPath(format!("//button[normalize-space()='{text}']")));
        self.runtime.block_on(button.click()).unwrap();
    }

    /// Gives files to an input, which may be hidden.
    pub fn give(&self, input: &str, files: &[PathBuf]) {
        self.find(&By::Id("choose"));
        let names: Vec<_> = files.iter().map(|file| file.to_str().unwrap()).collect();
        let element = self.runtime.block_on(self.driver().find(By::Id(input))).unwrap();
        self.runtime.block_on(element.send_keys(names.join("\n"))).unwrap();
    }

    /// Drops files and folders onto the page.
    pub fn drop_onto_it(&self, paths: &[PathBuf]) {
        self.find(&By::Id("choose"));
        let tools = self.driver().cdp();
        let dropped = serde_json::json!({ "items": [], "files": paths, "dragOperationsMask": 1 });
        for step in ["dragEnter", "dragOver", "drop"] {
            let event = serde_json::json!({ "type": step, "x": 200, "y": 200, "data": &dropped });
            self.runtime.block_on(tools.send_raw("Input.dispatchDragEvent", event)).unwrap();
        }
    }

    /// Types the password and sends it off.
    pub fn unlock(&self, password: &str) {
        let field = self.find(&By::Id("password"));
        self.runtime.block_on(async {
            field.clear().await.unwrap();
            field.send_keys(password).await.unwrap();
        });
        self.click("Open");
    }

    /// Saves everything that is listed; the file that came, or what the page said instead.
    pub fn save_everything(&self) -> Result<(PathBuf, String), String> {
        self.click("Save everything");
        let said = self.wait_for("#save", &["as it was packed", "Not saved"]);
        if said.contains("Not saved") {
            return Err(said);
        }
        Ok((self.downloaded("zip"), said))
    }

    /// What was downloaded under a name that ends so.
    pub fn downloaded(&self, end: &str) -> PathBuf {
        self.until("a download", || {
            let mut names = fs::read_dir(&self.downloads).unwrap().map(|entry| entry.unwrap().path());
            names.find(|path| path.extension().is_some_and(|last| last == end))
        })
    }

    /// Runs a script in the page, which its policy holds too; what it comes to.
    pub fn run(&self, script: &str) -> serde_json::Value {
        self.runtime.block_on(self.driver().execute(script, Vec::new())).unwrap().json().clone()
    }

    /// Takes a picture of what is seen.
    pub fn picture(&self, path: &Path) {
        self.runtime.block_on(self.driver().screenshot(path)).unwrap();
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        if let Some(driver) = self.driver.take() {
            let _ = self.runtime.block_on(driver.quit());
        }
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}
