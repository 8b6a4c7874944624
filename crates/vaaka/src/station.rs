//! A station: it runs on a bench PC, asks the server what to read, reads it, and sends what came. It knows nothing of checks.

use std::time::Duration;

use reqwest::StatusCode;
use serde::Deserialize;
use uuid::Uuid;
use vaaka_devices::{Address, Answer, Link, read};

use crate::AppError;

#[derive(Debug, Deserialize)]
struct Work {
    turn: Uuid,
    address: String,
    link: Link,
}

/// How long the server may take to say that there is nothing.
const PATIENCE: Duration = Duration::from_secs(30);
/// How long after a failure it is asked again; longer each time, up to the last.
const AGAIN: [u64; 5] = [1, 2, 5, 10, 15];

/// Reads for a server until it says that the key is none.
///
/// # Errors
/// [`AppError::Setting`] where the address or the key is none.
pub async fn run(server: &str, key: &str) -> Result<(), AppError> {
    let server = server.trim_end_matches('/');
    if !server.starts_with("http://") {
        return Err(AppError::Setting {
            name: "VAAKA_SERVER",
            value: server.to_owned(),
            expected: "give the address of the server, for example http://10.20.0.2:8300; over an open network lead it through a tunnel",
        });
    }
    let client = reqwest::Client::builder().timeout(PATIENCE).build();
    let client = client.map_err(|cause| AppError::Input(cause.to_string()))?;
    println!("Reading instruments for {server}");
    let mut failures = 0;
    loop {
        let asked = client.get(format!("{server}/api/stations/next")).bearer_auth(key).send().await;
        let trouble = match asked {
            Ok(answer) if answer.status() == StatusCode::OK => match answer.json::<Work>().await {
                Ok(work) => {
                    failures = 0;
                    // Others are read meanwhile.
                    tokio::spawn(serve(client.clone(), server.to_owned(), key.to_owned(), work));
                    continue;
                }
                Err(cause) => cause.to_string(),
            },
            Ok(answer) if answer.status() == StatusCode::NO_CONTENT => {
                failures = 0;
                continue;
            }
            Ok(answer) if answer.status() == StatusCode::UNAUTHORIZED => {
                return Err(AppError::Setting {
                    name: "VAAKA_STATION_KEY",
                    value: format!("{}…", key.chars().take(10).collect::<String>()),
                    expected: "the server does not know this key, or it was ended: an administrator makes one for a bench PC on the page Keys",
                });
            }
            Ok(answer) => format!("the server answers {}", answer.status()),
            Err(cause) => cause.to_string(),
        };
        let wait = AGAIN.get(failures).or(AGAIN.last()).copied().unwrap_or(15);
        failures += 1;
        tracing::warn!(%trouble, "the server cannot be asked; again in {wait} s");
        tokio::time::sleep(Duration::from_secs(wait)).await;
    }
}

/// Reads one instrument, and sends what came.
async fn serve(client: reqwest::Client, server: String, key: String, work: Work) {
    let came = match (work.address.parse::<Address>(), work.link.ready()) {
        (Ok(address), Ok(ready)) => read(&address, &ready).await.map_err(|error| error.to_string()),
        (Err(fault), _) => Err(fault.to_string()),
        (_, Err(fault)) => Err(fault.to_string()),
    };
    let path = format!("{server}/api/stations/turns/{}", work.turn);
    let post = client.post(path).bearer_auth(key);
    let sent = match came {
        Ok(Answer::Number { raw, .. }) => {
            post.header("content-type", "application/octet-stream").body(raw).send().await
        }
        Ok(Answer::File { bytes }) => {
            post.header("content-type", "application/octet-stream").body(bytes).send().await
        }
        Err(words) => {
            post.header("content-type", "text/plain; charset=utf-8").body(words).send().await
        }
    };
    if let Err(error) = sent {
        tracing::warn!(%error, "what came could not be sent; nobody waits for it any more");
    }
}
