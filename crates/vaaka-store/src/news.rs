//! What other processes write: PostgreSQL tells of every chart that got or changed a point, so that a wall
//! hears of a check at any bench, whichever process took it.

use std::pin::pin;
use std::time::Duration;

use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use futures_util::StreamExt;
use tokio::sync::{broadcast, watch};

use crate::StoreError;
use crate::ids::StreamId;

/// Something that happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum News {
    /// A chart has got or changed a point.
    Chart(StreamId),
    /// News may have been lost: look at everything again.
    Everything,
}

/// News that a slow listener may fall behind; then it is told to look at everything.
const KEPT: usize = 256;
/// Longest wait for the first connection.
const PATIENCE: Duration = Duration::from_secs(5);
/// Wait before the database is asked again after it was lost.
const AGAIN: Duration = Duration::from_secs(2);

/// The one who listens for a process.
#[derive(Debug)]
pub(crate) struct Listener {
    sender: broadcast::Sender<News>,
    listening: watch::Receiver<bool>,
}

impl Listener {
    /// Opens the connection that listens for as long as the process lives.
    pub(crate) fn begin(url: &str) -> Self {
        let (sender, _) = broadcast::channel(KEPT);
        let (tells, listening) = watch::channel(false);
        tokio::spawn(tell(url.to_owned(), sender.clone(), tells));
        Self { sender, listening }
    }

    /// Comes back when it is sure to hear, or after a while without a database.
    pub(crate) async fn hear(&self) -> broadcast::Receiver<News> {
        let told = self.sender.subscribe();
        let mut listening = self.listening.clone();
        let _ = tokio::time::timeout(PATIENCE, listening.wait_for(|listening| *listening)).await;
        told
    }
}

/// Tells for as long as the process lives; a lost database is asked again.
async fn tell(url: String, sender: broadcast::Sender<News>, listening: watch::Sender<bool>) {
    loop {
        if let Err(error) = listen(&url, &sender, &listening).await {
            tracing::warn!(%error, "news of the charts are interrupted");
        }
        listening.send_replace(false);
        tokio::time::sleep(AGAIN).await;
    }
}

async fn listen(
    url: &str,
    sender: &broadcast::Sender<News>,
    listening: &watch::Sender<bool>,
) -> Result<(), StoreError> {
    let mut connection = AsyncPgConnection::establish(url)
        .await
        .map_err(|error| StoreError::Database(error.to_string()))?;
    diesel::sql_query("LISTEN vaaka_charts").execute(&mut connection).await?;
    // What happened while nobody listened is not told: whoever waits looks at everything.
    let _ = sender.send(News::Everything);
    listening.send_replace(true);
    let mut told = pin!(connection.notifications_stream());
    while let Some(notification) = told.next().await {
        let news = match notification?.payload.parse() {
            Ok(id) => News::Chart(StreamId(id)),
            Err(_) => News::Everything,
        };
        let _ = sender.send(news);
    }
    Ok(())
}
