//! What other processes write: PostgreSQL tells of every chart that got or changed a point, so that a wall
//! hears of a check at any bench, whichever process took it.

use std::pin::pin;
use std::time::Duration;

use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use futures_util::StreamExt;
use tokio::sync::broadcast;

use crate::ids::StreamId;
use crate::{Store, StoreError};

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
/// Wait before the database is asked again after it was lost.
const AGAIN: Duration = Duration::from_secs(2);

impl Store {
    /// Listens. The first to listen opens a connection of its own, which all share from then on.
    #[must_use]
    pub fn news(&self) -> broadcast::Receiver<News> {
        let sender = self.news.get_or_init(|| {
            let (sender, _) = broadcast::channel(KEPT);
            tokio::spawn(tell(self.url.to_string(), sender.clone()));
            sender
        });
        sender.subscribe()
    }
}

/// Tells for as long as the process lives; a lost database is asked again.
async fn tell(url: String, sender: broadcast::Sender<News>) {
    loop {
        if let Err(error) = listen(&url, &sender).await {
            tracing::warn!(%error, "news of the charts are interrupted");
        }
        tokio::time::sleep(AGAIN).await;
    }
}

async fn listen(url: &str, sender: &broadcast::Sender<News>) -> Result<(), StoreError> {
    let mut connection = AsyncPgConnection::establish(url)
        .await
        .map_err(|error| StoreError::Database(error.to_string()))?;
    diesel::sql_query("LISTEN vaaka_charts").execute(&mut connection).await?;
    // What happened before this is not told; nobody minds when nobody listens.
    let _ = sender.send(News::Everything);
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
