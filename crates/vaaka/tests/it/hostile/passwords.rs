//! Passwords that are tried: slowed down, on record, and no way to shut out everybody.

use std::collections::HashMap;

use futures_util::future::join_all;
use reqwest::StatusCode;

use crate::client::Bench;
use crate::support::Server;
use crate::web_chart_room::{lines, number};

struct Door {
    base: String,
    client: reqwest::Client,
}

impl Door {
    fn of(server: &Server) -> Self {
        let client =
            reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().unwrap();
        Self { base: server.base.clone(), client }
    }

    async fn knock(&self, name: &str, password: &str, address: &str) -> reqwest::Response {
        let form = HashMap::from([("name", name), ("password", password)]);
        let request = self.client.post(format!("{}/sign-in", self.base)).form(&form);
        request.header("x-forwarded-for", address).send().await.unwrap()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn wrong_passwords_wait_longer_and_longer() {
    let server = Server::demo().await;
    let door = Door::of(&server);
    for _ in 0..5 {
        let wrong = door.knock("aino", "guess", "10.0.0.1").await;
        assert_eq!(wrong.status(), StatusCode::UNPROCESSABLE_ENTITY);
    }
    // Also the right one waits now, and from elsewhere; nothing is computed meanwhile.
    let slowed = door.knock("aino", "kapea-silta-4", "10.0.0.2").await;
    assert_eq!(slowed.status(), StatusCode::TOO_MANY_REQUESTS);
    assert!(slowed.headers().contains_key("retry-after"));
    let words = slowed.text().await.unwrap();
    assert!(words.contains("Too many wrong passwords"), "{words}");
    // A colleague is not concerned.
    assert_eq!(
        door.knock("teemu", "kuiva-kivi-7", "10.0.0.1").await.status(),
        StatusCode::SEE_OTHER
    );
    // The pause ends, and the right one is the right one.
    diesel_async::SimpleAsyncConnection::batch_execute(
        &mut server.owner().await,
        "UPDATE sign_in_attempts SET at = at - interval '61 seconds'",
    )
    .await
    .unwrap();
    let fine = door.knock("Aino", "kapea-silta-4", "10.0.0.2").await;
    assert_eq!(fine.status(), StatusCode::SEE_OTHER, "names are compared without their case");
    assert_eq!(
        door.knock("aino", "guess", "10.0.0.1").await.status(),
        StatusCode::UNPROCESSABLE_ENTITY
    );
    let record = lines(
        &server.database,
        "SELECT detail->>'sign_in' || ' from ' || (detail->>'address') AS line FROM audit_entries
         WHERE action = 'password_wrong'",
    )
    .await;
    assert_eq!(record.len(), 6);
    assert!(record.iter().all(|line| line == "aino from 10.0.0.1"), "{record:?}");
    crate::audit::unbroken(&mut server.owner().await).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_that_tries_many_names_waits_too() {
    let server = Server::demo().await;
    let door = Door::of(&server);
    for number in 0..21 {
        door.knock(&format!("guess{number}"), "guess", "10.0.0.9").await;
    }
    let slowed = door.knock("teemu", "kuiva-kivi-7", "10.0.0.9").await;
    assert_eq!(slowed.status(), StatusCode::TOO_MANY_REQUESTS);
    assert_eq!(
        door.knock("teemu", "kuiva-kivi-7", "10.0.0.8").await.status(),
        StatusCode::SEE_OTHER
    );
}

/// Many at once: each is answered, most with "come again", and who is signed in goes on working.
#[tokio::test(flavor = "multi_thread")]
async fn a_crowd_at_the_door_shuts_out_nobody_inside() {
    let server = Server::demo().await;
    let door = Door::of(&server);
    let aino = Bench::aino(&server.base).await;
    let names: Vec<String> = (0..120).map(|number| format!("guess{number}")).collect();
    let addresses: Vec<String> = (0..120).map(|number| format!("10.1.0.{number}")).collect();
    let crowd =
        names.iter().zip(&addresses).map(|(name, address)| door.knock(name, "guess", address));
    let (answers, inside) = futures_util::join!(join_all(crowd), aino.get("/"));
    assert_eq!(inside.status, StatusCode::OK);
    let mut busy = 0;
    for answer in answers {
        match answer.status() {
            StatusCode::UNPROCESSABLE_ENTITY => {}
            StatusCode::SERVICE_UNAVAILABLE => {
                assert!(answer.headers().contains_key("retry-after"));
                busy += 1;
            }
            other => panic!("{other}"),
        }
    }
    assert!(busy > 20, "{busy} were told to come again");
}

/// Eight sign-ins of one account at one moment are eight sign-ins.
#[tokio::test(flavor = "multi_thread")]
async fn one_account_signs_in_eight_times_at_once() {
    let server = Server::demo().await;
    let door = Door::of(&server);
    let answers = join_all((0..8).map(|_| door.knock("aino", "kapea-silta-4", "10.0.0.1"))).await;
    for answer in answers {
        assert_eq!(answer.status(), StatusCode::SEE_OTHER);
        for cookie in answer.headers().get_all("set-cookie") {
            assert!(cookie.to_str().unwrap().contains("HttpOnly"), "{cookie:?}");
        }
    }
    let entries = "SELECT count(*) AS number FROM audit_entries WHERE action = 'signed_in'
        AND person_id = (SELECT id FROM people WHERE sign_in = 'aino')";
    assert_eq!(number(&server.database, entries).await, 8);
}

/// A NUL is typed by nobody and kept nowhere; it is no failure of the database.
#[tokio::test(flavor = "multi_thread")]
async fn a_nul_means_nothing() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    for path in ["/records?tag=%00R-02", "/charts/1?range=%00week", "/audit?chain=check:1%00"] {
        assert_eq!(aino.get(path).await.status, StatusCode::OK, "{path}");
    }
    for path in ["/instruments/R-02%00", "/export/records.csv%00"] {
        assert_eq!(aino.get(path).await.status, StatusCode::NOT_FOUND, "{path}");
    }
    let answer =
        crate::web_chart_room::post(&aino, "/handover", &[("words", "quiet\0 night")]).await;
    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.text);
    assert!(aino.get("/").await.text.contains("quiet night"));
}

/// Half a request does not hold a connection for ever. The server's own patience is longer than a test may take, so that
/// only its being there is asked: a connection with half a head is not answered, and others are.
#[tokio::test(flavor = "multi_thread")]
async fn half_a_request_holds_up_nobody() {
    use tokio::io::AsyncWriteExt;
    let server = Server::demo().await;
    let address = server.base.trim_start_matches("http://").to_owned();
    let mut open = Vec::new();
    for _ in 0..50 {
        let mut stream = tokio::net::TcpStream::connect(&address).await.unwrap();
        stream.write_all(b"GET / HTTP/1.1\r\nHost: x\r\nX-Slow: ").await.unwrap();
        open.push(stream);
    }
    let aino = Bench::aino(&server.base).await;
    assert_eq!(aino.get("/").await.status, StatusCode::OK);
}
