//! A browser without a screen: cookies, forms read from the page, and answers as documents.

use std::collections::HashMap;
use std::process::Stdio;

use reqwest::redirect::Policy;
use reqwest::{Client, StatusCode};
use scraper::{Html, Selector};
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio::process::{Child, Command};

/// A browser shows nothing of a template; this parser would.
fn without_templates(text: &str) -> String {
    let mut parts = text.split("<template");
    let mut shown = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        shown.push_str(part.split_once("</template>").map_or("", |(_, rest)| rest));
    }
    shown
}

/// A page that came back.
pub struct Page {
    pub status: StatusCode,
    pub location: Option<String>,
    pub headers: reqwest::header::HeaderMap,
    pub text: String,
}

impl Page {
    fn document(&self) -> Html {
        Html::parse_document(&without_templates(&self.text))
    }

    /// Words of the first element that a selector finds; panics with the page when there is none.
    pub fn words(&self, selector: &str) -> String {
        self.find(selector).unwrap_or_else(|| panic!("no {selector} in:\n{}", self.text))
    }

    pub fn find(&self, selector: &str) -> Option<String> {
        let document = self.document();
        let found = document.select(&Selector::parse(selector).unwrap()).next()?;
        let words: Vec<&str> = found.text().flat_map(str::split_whitespace).collect();
        Some(words.join(" "))
    }

    pub fn all(&self, selector: &str) -> Vec<String> {
        let document = self.document();
        document
            .select(&Selector::parse(selector).unwrap())
            .map(|found| found.text().flat_map(str::split_whitespace).collect::<Vec<_>>().join(" "))
            .collect()
    }

    /// Where the links that a selector finds lead.
    pub fn hrefs(&self, selector: &str) -> Vec<String> {
        let document = self.document();
        let selector = Selector::parse(selector).unwrap();
        let found = document.select(&selector);
        found.filter_map(|link| link.value().attr("href").map(str::to_owned)).collect()
    }

    /// An attribute of everything that a selector finds.
    pub fn attributes(&self, selector: &str, name: &str) -> Vec<String> {
        let document = self.document();
        let selector = Selector::parse(selector).unwrap();
        let found = document.select(&selector);
        found.map(|one| one.value().attr(name).unwrap_or_default().to_owned()).collect()
    }

    pub fn attribute(&self, selector: &str, name: &str) -> Option<String> {
        let document = self.document();
        let found = document.select(&Selector::parse(selector).unwrap()).next()?;
        found.value().attr(name).map(str::to_owned)
    }

    /// Names and values of a form's fields, as a browser would send them.
    pub fn form(&self, selector: &str) -> HashMap<String, String> {
        let document = self.document();
        let fields = Selector::parse(&format!("{selector} input:not([type=checkbox])")).unwrap();
        document
            .select(&fields)
            .filter_map(|field| {
                let value = field.value().attr("value").unwrap_or_default();
                Some((field.value().attr("name")?.to_owned(), value.to_owned()))
            })
            .collect()
    }

    /// All fields of a form as a browser would send them: also lists, lines and ticked boxes.
    pub fn whole_form(&self, selector: &str) -> HashMap<String, String> {
        let document = self.document();
        let mut fields = self.form(selector);
        let of = |what: &str| Selector::parse(&format!("{selector} {what}")).unwrap();
        let name = |field: &scraper::ElementRef<'_>| field.value().attr("name").map(str::to_owned);
        for field in document.select(&of("input[type=checkbox][checked]")) {
            fields.extend(name(&field).map(|name| (name, "on".to_owned())));
        }
        for field in document.select(&of("textarea")) {
            fields.extend(name(&field).map(|name| (name, field.text().collect::<String>())));
        }
        let (chosen, any) =
            (Selector::parse("option[selected]").unwrap(), Selector::parse("option").unwrap());
        for field in document.select(&of("select")) {
            let option = field.select(&chosen).next().or_else(|| field.select(&any).next());
            let value = option.and_then(|option| option.value().attr("value")).unwrap_or_default();
            fields.extend(name(&field).map(|name| (name, value.to_owned())));
        }
        fields
    }

    /// Names of the boxes of a form, ticked or not.
    pub fn tick_names(&self, selector: &str) -> Vec<String> {
        let document = self.document();
        let boxes = Selector::parse(&format!("{selector} input[type=checkbox]")).unwrap();
        document
            .select(&boxes)
            .filter_map(|field| field.value().attr("name").map(str::to_owned))
            .collect()
    }

    pub fn boxes(&self) -> Vec<String> {
        let document = self.document();
        document
            .select(&Selector::parse(".ticks input[type=checkbox]").unwrap())
            .filter_map(|field| field.value().attr("name").map(str::to_owned))
            .collect()
    }
}

/// The program as a server of its own, over a database and with a clock that begins then; the address at which it listens.
pub async fn serve(url: &str, listen: &str, clock: &str) -> (Child, String) {
    let mut child = Command::new(env!("CARGO_BIN_EXE_vaaka"))
        .args(["serve", "--listen", listen, "--clock-start", clock])
        .env("VAAKA_DATABASE_URL", url)
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .kill_on_drop(true)
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    // On an empty database it says the code of the first administrator before.
    loop {
        let line = lines.next_line().await.unwrap().expect("the program says where it listens");
        if let Some(address) = line.strip_prefix("Listening on ") {
            return (child, address.to_owned());
        }
    }
}

/// A stream of events that is open.
pub struct Told {
    response: reqwest::Response,
    text: String,
}

impl Told {
    /// Data of the next event; panics when none comes in time.
    pub async fn next(&mut self, patience: std::time::Duration) -> String {
        let coming = async {
            loop {
                if let Some((event, rest)) = self.text.split_once("\n\n") {
                    let data = event.lines().find_map(|line| line.strip_prefix("data: "));
                    let data = data.map(str::to_owned);
                    self.text = rest.to_owned();
                    match data {
                        Some(data) => return data,
                        None => continue,
                    }
                }
                let chunk = self.response.chunk().await.unwrap().expect("the stream ended");
                self.text.push_str(&String::from_utf8_lossy(&chunk));
            }
        };
        tokio::time::timeout(patience, coming).await.expect("no event came")
    }
}

/// Somebody at a bench.
#[derive(Clone)]
pub struct Bench {
    pub base: String,
    client: Client,
}

impl Bench {
    pub fn new(base: &str) -> Self {
        let client = Client::builder().cookie_store(true).redirect(Policy::none()).build().unwrap();
        Self { base: base.to_owned(), client }
    }

    pub async fn signed_in(base: &str, name: &str, password: &str) -> Self {
        let bench = Self::new(base);
        let fields = HashMap::from([("name", name), ("password", password)]);
        let answer = bench.post("/sign-in", &fields).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.text);
        bench
    }

    /// Signs in with a password that somebody else chose, and sets an own one as that asks for.
    pub async fn signed_in_first(base: &str, name: &str, chosen: &str, own: &str) -> Self {
        let bench = Self::signed_in(base, name, chosen).await;
        let page = bench.get("/password").await;
        let typed = [("password", chosen), ("new", own), ("again", own)];
        let set = bench.submit(&page, "/password", &typed).await;
        assert_eq!(set.status, StatusCode::SEE_OTHER, "{}", set.text);
        bench
    }

    pub async fn aino(base: &str) -> Self {
        Self::signed_in(base, "aino", "kapea-silta-4").await
    }

    async fn page(response: reqwest::Response) -> Page {
        let location =
            response.headers().get("location").map(|value| value.to_str().unwrap().to_owned());
        Page {
            status: response.status(),
            location,
            headers: response.headers().clone(),
            text: response.text().await.unwrap(),
        }
    }

    /// Opens a stream of events.
    pub async fn events(&self, path: &str) -> Told {
        let response = self.client.get(format!("{}{path}", self.base)).send().await.unwrap();
        assert_eq!(response.status(), StatusCode::OK);
        assert_eq!(response.headers()["content-type"], "text/event-stream");
        Told { response, text: String::new() }
    }

    /// The head of an answer, without waiting for its end.
    pub async fn opened(&self, path: &str) -> Page {
        let response = self.client.get(format!("{}{path}", self.base)).send().await.unwrap();
        let location =
            response.headers().get("location").map(|value| value.to_str().unwrap().to_owned());
        let (status, headers) = (response.status(), response.headers().clone());
        Page { status, location, headers, text: String::new() }
    }

    pub async fn get(&self, path: &str) -> Page {
        Self::page(self.client.get(format!("{}{path}", self.base)).send().await.unwrap()).await
    }

    /// Sends fields in their order, a name as often as it comes.
    pub async fn post_pairs(&self, path: &str, fields: &[(&str, &str)]) -> Page {
        let request = self.client.post(format!("{}{path}", self.base)).form(fields);
        Self::page(request.send().await.unwrap()).await
    }

    pub async fn post<K, V>(&self, path: &str, fields: &HashMap<K, V>) -> Page
    where
        K: serde::Serialize + std::hash::Hash + Eq,
        V: serde::Serialize,
    {
        let request = self.client.post(format!("{}{path}", self.base)).form(fields);
        Self::page(request.send().await.unwrap()).await
    }

    /// Sends an entry as the page's own script does: a short answer comes back.
    pub async fn post_short(&self, path: &str, fields: &HashMap<String, String>) -> Page {
        let request = self.client.post(format!("{}{path}", self.base)).form(fields);
        Self::page(request.header("accept", "application/json").send().await.unwrap()).await
    }

    /// Sends a file as a form does.
    pub async fn send_file(&self, path: &str, token: &str, name: &str, bytes: &[u8]) -> Page {
        let parts = [("form_token", token), ("back", "/"), ("caption", "as it stands")];
        self.send_parts(path, &parts, name, bytes).await
    }

    /// Sends a file with other fields.
    pub async fn send_parts(
        &self,
        path: &str,
        parts: &[(&str, &str)],
        name: &str,
        bytes: &[u8],
    ) -> Page {
        let mut body = Vec::new();
        for (field, value) in parts {
            let part = format!(
                "--edge\r\ncontent-disposition: form-data; name=\"{field}\"\r\n\r\n{value}\r\n"
            );
            body.extend_from_slice(part.as_bytes());
        }
        let head = format!(
            "--edge\r\ncontent-disposition: form-data; name=\"file\"; filename=\"{name}\"\r\ncontent-type: image/png\r\n\r\n"
        );
        body.extend_from_slice(head.as_bytes());
        body.extend_from_slice(bytes);
        body.extend_from_slice(b"\r\n--edge--\r\n");
        let request = self
            .client
            .post(format!("{}{path}", self.base))
            .header("content-type", "multipart/form-data; boundary=edge")
            .body(body);
        Self::page(request.send().await.unwrap()).await
    }

    /// Asks as another program does, by its key.
    pub async fn get_with_key(&self, path: &str, key: &str) -> Page {
        let request = self.client.get(format!("{}{path}", self.base)).bearer_auth(key);
        Self::page(request.send().await.unwrap()).await
    }

    /// Sends a form of the registers: what the page holds, with some fields changed.
    pub async fn submit(&self, page: &Page, path: &str, typed: &[(&str, &str)]) -> Page {
        let mut fields = page.whole_form("form.sheet-form");
        for (name, value) in typed {
            fields.insert((*name).to_owned(), (*value).to_owned());
        }
        self.post(path, &fields).await
    }

    /// Countersigns what waits on a page, with a password and a sentence.
    pub async fn countersign(&self, path: &str, password: &str) -> Page {
        let mut fields = self.get(path).await.form(&format!("form[action='{path}']"));
        fields.insert("reason".into(), "compared line by line with the paper".into());
        fields.insert("password".into(), password.into());
        fields.insert("verdict".into(), "countersign".into());
        self.post(path, &fields).await
    }

    pub async fn post_from(&self, path: &str, origin: &str, fields: &HashMap<&str, &str>) -> Page {
        let request = self.client.post(format!("{}{path}", self.base)).header("origin", origin);
        Self::page(request.form(fields).send().await.unwrap()).await
    }

    pub async fn follow(&self, page: Page) -> Page {
        assert_eq!(page.status, StatusCode::SEE_OTHER, "{}", page.text);
        self.get(&page.location.unwrap()).await
    }

    /// Starts the check of an instrument from the round and gives its path.
    pub async fn start(&self, tag: &str) -> String {
        let round = self.get("/").await;
        let version = plan_version(&round, tag);
        let mut fields = round.form("td.do form");
        fields.insert("plan_version".into(), version);
        fields.insert("key".into(), uuid::Uuid::new_v4().to_string());
        let answer = self.post("/checks", &fields).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.text);
        answer.location.unwrap()
    }

    /// Comes to a check that somebody has begun, by the link of its row.
    pub async fn start_again(&self, tag: &str) -> String {
        let round = self.get("/").await;
        let document = round.document();
        let row = Selector::parse("table.round tbody tr").unwrap();
        let link = Selector::parse("td.do a").unwrap();
        document
            .select(&row)
            .find(|row| row.text().any(|text| text.contains(tag)))
            .and_then(|row| row.select(&link).next())
            .and_then(|link| link.value().attr("href"))
            .unwrap_or_else(|| panic!("no way to go on with {tag} in {}", round.text))
            .to_owned()
    }

    /// Sends the form of the step that is shown, with what was typed.
    pub async fn send(&self, path: &str, typed: &str) -> Page {
        let page = self.get(path).await;
        self.send_form(path, &page, &[("typed", typed)]).await
    }

    pub async fn send_form(&self, path: &str, page: &Page, typed: &[(&str, &str)]) -> Page {
        let mut fields = page.form("form.entry");
        for (name, value) in typed {
            fields.insert((*name).to_owned(), (*value).to_owned());
        }
        self.post(&format!("{path}/entries"), &fields).await
    }

    /// Sends what was read, and says yes where the page asks whether the display really shows that.
    pub async fn read(&self, path: &str, typed: &str) -> Page {
        let answer = self.send(path, typed).await;
        match answer.attribute("form.entry button[name=confirm_far]", "value") {
            Some(asked) if answer.status == StatusCode::UNPROCESSABLE_ENTITY => {
                self.send_form(path, &answer, &[("typed", typed), ("confirm_far", &asked)]).await
            }
            _ => answer,
        }
    }

    /// Ticks every box of the step that is shown, agrees to what was kept, or types the tag that it wants.
    pub async fn confirm(&self, path: &str) -> Page {
        let page = self.get(path).await;
        let boxes = page.boxes();
        if page.find("form.entry.review").is_some() {
            return self.send_form(path, &page, &[]).await;
        }
        if page.find("form.entry.values").is_some() {
            return self.keep_wanted(path, &page).await;
        }
        if page.find("form.entry.setting").is_some() {
            // What it must be is said when it is not.
            let refused = self.send_form(path, &page, &[("typed", "?")]).await;
            let words = refused.words("#typed-error");
            let wanted = words.split("must be ").nth(1).and_then(|rest| rest.split(", and").next());
            let page = self.get(path).await;
            return self.send_form(path, &page, &[("typed", wanted.unwrap())]).await;
        }
        if page.find("ul.folded").is_some() {
            return self.send_form(path, &page, &[]).await;
        }
        if boxes.is_empty() {
            let tag = page.words("aside .strong");
            return self.send_form(path, &page, &[("typed", &tag)]).await;
        }
        let ticks: Vec<(&str, &str)> = boxes.iter().map(|name| (name.as_str(), "on")).collect();
        self.send_form(path, &page, &ticks).await
    }

    /// Types what is wanted for each of several values on one screen, and keeps them all.
    pub async fn keep_wanted(&self, path: &str, page: &Page) -> Page {
        let wanted: Vec<String> = page.attributes("form.values [data-row]", "data-wanted");
        let typed: Vec<&str> = wanted.iter().map(String::as_str).collect();
        self.keep_values(path, page, &typed).await
    }

    /// Sends several values of one screen, in the order of their rows.
    pub async fn keep_values(&self, path: &str, page: &Page, typed: &[&str]) -> Page {
        let token = page.form("form.values").remove("form_token").unwrap();
        let steps = page.attributes("form.values [name=step]", "value");
        let keys = page.attributes("form.values [name=key]", "value");
        let mut pairs = vec![("form_token", token.as_str())];
        for ((step, key), typed) in steps.iter().zip(&keys).zip(typed) {
            pairs.extend([("step", step.as_str()), ("key", key), ("typed", typed)]);
        }
        self.post_pairs(&format!("{path}/values"), &pairs).await
    }

    /// Takes a check over from whoever has it in hand.
    pub async fn take_over(&self, path: &str) -> Page {
        let page = self.get(path).await;
        let action = format!("{path}/take-over");
        let fields = page.form(&format!("form[action='{action}']"));
        self.post(&action, &fields).await
    }

    /// Confirms what is left of a check, and comes to its verdict.
    pub async fn finish(&self, path: &str) -> Page {
        for _ in 0..5 {
            let answer = self.confirm(path).await;
            if answer.location.as_deref().is_some_and(|next| next.ends_with("/verdict")) {
                return self.follow(answer).await;
            }
        }
        panic!("the check does not end");
    }

    /// Runs a check with readings that are just what they should be.
    pub async fn run_exactly(&self, tag: &str) -> Page {
        let path = self.start(tag).await;
        for _ in 0..40 {
            let page = self.get(&path).await;
            if page.status == StatusCode::SEE_OTHER {
                return self.follow(page).await;
            }
            let asked = (
                page.attribute("form.entry[data-rules=reading]", "data-wanted"),
                page.attribute("form.entry[data-rules=reading]", "data-step"),
            );
            match asked {
                (Some(expected), Some(step)) => {
                    let expected = shown_as(&expected, &step);
                    let answer = self.send_form(&path, &page, &[("typed", &expected)]).await;
                    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{expected}: {}", answer.text);
                }
                _ => drop(self.confirm(&path).await),
            }
        }
        panic!("the check does not end");
    }

    /// Runs a check to its verdict: confirmations as they come, then the readings in order.
    pub async fn run(&self, tag: &str, readings: &[&str]) -> Page {
        let path = self.start(tag).await;
        self.run_to_end(&path, readings).await
    }

    /// Runs an open check to its verdict.
    pub async fn run_to_end(&self, path: &str, readings: &[&str]) -> Page {
        let mut readings = readings.iter();
        for _ in 0..40 {
            let page = self.get(path).await;
            if page.status == StatusCode::SEE_OTHER {
                return self.follow(page).await;
            }
            let answer = if page.find("form.entry.reading").is_some() {
                let typed = readings.next().expect("a reading for each step");
                self.read(path, typed).await
            } else {
                self.confirm(path).await
            };
            assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.text);
        }
        panic!("the check does not end");
    }
}

/// What a display that moves in such steps shows of a value.
fn shown_as(value: &str, step: &str) -> String {
    let (value, size): (f64, f64) = (value.parse().unwrap(), step.parse().unwrap());
    let places = step.split('.').nth(1).map_or(0, str::len);
    format!("{:.places$}", (value / size).round() * size)
}

/// The plan version behind the button of an instrument's row.
pub fn plan_version(round: &Page, tag: &str) -> String {
    let document = round.document();
    let row = Selector::parse("table.round tbody tr").unwrap();
    let field = Selector::parse("td.do input[name=plan_version]").unwrap();
    document
        .select(&row)
        .find(|row| row.text().any(|text| text.contains(tag)))
        .and_then(|row| row.select(&field).next())
        .and_then(|field| field.value().attr("value"))
        .unwrap_or_else(|| panic!("no start for {tag} in {}", round.text))
        .to_owned()
}
