//! Connections taken, served and, at the end, seen out.

use std::net::SocketAddr;
use std::time::Duration;

use axum::extract::{ConnectInfo, Request};
use hyper::body::Incoming;
use hyper::server::conn::http1::Builder;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use hyper_util::service::TowerToHyperService;
use tokio::net::TcpListener;
use tower::ServiceExt;

use crate::routes::router;
use crate::state::AppState;

/// How long the head of a request may take: who sends half of one does not hold a connection for ever.
const HEAD: Duration = Duration::from_secs(15);
/// How long requests that are under way are waited for at the end.
const PATIENCE: Duration = Duration::from_secs(35);
/// Pause after a connection that could not be taken, as when no more files may be open.
const BREATH: Duration = Duration::from_millis(100);

/// Serves until `shutdown` resolves; requests that are under way are finished.
///
/// # Errors
/// When the listener fails.
pub async fn serve(
    listener: TcpListener,
    state: AppState,
    shutdown: impl Future<Output = ()> + Send + 'static,
) -> std::io::Result<()> {
    let app = router(state.clone());
    let graceful = GracefulShutdown::new();
    let mut shutdown = std::pin::pin!(shutdown);
    loop {
        let (stream, peer) = tokio::select! {
            taken = listener.accept() => match taken {
                Ok(taken) => taken,
                Err(error) => {
                    tracing::warn!(%error, "a connection could not be taken");
                    tokio::time::sleep(BREATH).await;
                    continue;
                }
            },
            () = &mut shutdown => break,
        };
        // Short answers leave at once.
        let _ = stream.set_nodelay(true);
        let app = app.clone().map_request(move |request: axum::http::Request<Incoming>| {
            let mut request: Request = request.map(axum::body::Body::new);
            request.extensions_mut().insert(ConnectInfo::<SocketAddr>(peer));
            request
        });
        let mut builder = Builder::new();
        builder.timer(TokioTimer::new()).header_read_timeout(HEAD);
        let service = TowerToHyperService::new(app);
        let connection = graceful.watch(builder.serve_connection(TokioIo::new(stream), service));
        tokio::spawn(async move {
            if let Err(error) = connection.await {
                tracing::debug!(%error, "a connection ended");
            }
        });
    }
    drop(listener);
    // Walls listen without an end; they would hold the server open.
    state.close();
    let _ = tokio::time::timeout(PATIENCE, graceful.shutdown()).await;
    Ok(())
}
