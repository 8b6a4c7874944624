//! The pool of connections.

use std::sync::{Arc, OnceLock};
use std::time::Duration;

use diesel_async::pooled_connection::deadpool::{Object, Pool};
use diesel_async::pooled_connection::{
    AsyncDieselConnectionManager, ManagerConfig, RecyclingMethod,
};
use diesel_async::{AsyncConnection, AsyncPgConnection, SimpleAsyncConnection};
use tokio::sync::broadcast;

use crate::StoreError;
use crate::news::{Listener, News};

/// Longest wait for a database that does not answer.
const WAIT: Duration = Duration::from_secs(5);
/// Longest wait for a turn, where all connections are taken: at the change of a shift everybody comes at once, and who
/// waits is served later and not refused. Below the longest time of a request.
const TURN: Duration = Duration::from_secs(20);

/// A connection taken from the pool.
pub type Connection = Object<AsyncPgConnection>;

/// Handle to the database; cheap to clone.
#[derive(Clone)]
pub struct Store {
    pool: Pool<AsyncPgConnection>,
    /// For the connection that listens; it never stands in a log.
    url: Arc<str>,
    news: Arc<OnceLock<Listener>>,
}

impl std::fmt::Debug for Store {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Store").field("pool", &self.pool.status()).finish()
    }
}

/// Connects. Compiling a query takes PostgreSQL tens of milliseconds, and none of ours runs that long: it is
/// turned off, since the planner's guess of what a query costs is sometimes far too high.
async fn connect(url: &str) -> diesel::ConnectionResult<AsyncPgConnection> {
    let mut connection = AsyncPgConnection::establish(url).await?;
    connection
        .batch_execute("SET jit = off")
        .await
        .map_err(diesel::ConnectionError::CouldntSetupConfiguration)?;
    Ok(connection)
}

impl Store {
    /// Makes a pool; connects only when a connection is asked for.
    ///
    /// # Errors
    /// [`StoreError::Database`] when the pool cannot be made.
    pub fn new(url: &str, size: usize) -> Result<Self, StoreError> {
        let mut config = ManagerConfig::default();
        // Saves a round trip a request; a broken connection shows at its first query.
        config.recycling_method = RecyclingMethod::Fast;
        config.custom_setup = Box::new(|url| Box::pin(connect(url)));
        let manager =
            AsyncDieselConnectionManager::<AsyncPgConnection>::new_with_config(url, config);
        let wait = Some(WAIT);
        let pool = Pool::builder(manager)
            .max_size(size)
            // The connection used last is the warm one: its statements are prepared and its
            // server process has the plans.
            .queue_mode(deadpool::managed::QueueMode::Lifo)
            .wait_timeout(Some(TURN))
            .create_timeout(wait)
            .recycle_timeout(wait)
            .runtime(deadpool::Runtime::Tokio1)
            .build()
            .map_err(|error| StoreError::Database(error.to_string()))?;
        Ok(Self { pool, url: url.into(), news: Arc::default() })
    }

    /// A connection.
    ///
    /// # Errors
    /// [`StoreError::Database`] when none comes free or the database is out of reach.
    pub async fn connection(&self) -> Result<Connection, StoreError> {
        self.pool.get().await.map_err(|error| StoreError::Database(error.to_string()))
    }

    /// Listens; comes back when it is sure to hear, or after a while without a database. The first to
    /// listen opens a connection of its own, which all share from then on.
    pub async fn news(&self) -> broadcast::Receiver<News> {
        self.news.get_or_init(|| Listener::begin(&self.url)).hear().await
    }

    /// A second connection, if one is free at this moment. Who holds one never waits for another: with
    /// all of them taken, each would wait for the rest.
    pub async fn spare(&self) -> Option<Connection> {
        let timeouts = deadpool::managed::Timeouts {
            wait: Some(Duration::ZERO),
            create: Some(WAIT),
            recycle: Some(WAIT),
        };
        self.pool.timeout_get(&timeouts).await.ok()
    }
}
