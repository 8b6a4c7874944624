//! The command line.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use clap::{Args, Parser, Subcommand};
use jiff::Timestamp;
use tokio::net::TcpListener;
use tracing_subscriber::EnvFilter;
use vaaka_store::{Store, migrate, sessions};
use vaaka_web::{AppState, Clock, Settings, ShiftedClock, SystemClock};

use crate::{AppError, demo};

/// Checks of production test equipment, judged and charted.
#[derive(Debug, Parser)]
#[command(version, about)]
pub struct CommandLine {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Bring the database up to the present schema.
    Migrate(Owner),
    /// Load the demo world into an empty database.
    DemoLoad(DemoLoad),
    /// Serve the application.
    Serve(Serve),
}

#[derive(Debug, Args)]
struct Owner {
    /// Database, as its owner.
    #[arg(long, env = "VAAKA_OWNER_DATABASE_URL", hide_env_values = true)]
    owner_database_url: String,
}

#[derive(Debug, Args)]
struct DemoLoad {
    #[command(flatten)]
    owner: Owner,
    /// Days of history.
    #[arg(long, default_value_t = 365)]
    days: u16,
    /// Seed of the generator.
    #[arg(long, default_value_t = 20)]
    seed: u64,
    /// The moment at which the history ends; now when left out.
    #[arg(long, env = "VAAKA_CLOCK_START")]
    ends_at: Option<String>,
}

#[derive(Debug, Args)]
struct Serve {
    /// Database, as the application's role.
    #[arg(long, env = "VAAKA_DATABASE_URL", hide_env_values = true)]
    database_url: String,
    /// Address and port.
    #[arg(long, env = "VAAKA_LISTEN", default_value = "127.0.0.1:8300")]
    listen: SocketAddr,
    /// Connections to the database.
    #[arg(long, env = "VAAKA_CONNECTIONS", default_value_t = 16)]
    connections: usize,
    /// Show the demo's sign-ins on the sign-in page.
    #[arg(long, env = "VAAKA_DEMO")]
    demo: bool,
    /// Mark cookies as secure; for sites served over TLS.
    #[arg(long, env = "VAAKA_SECURE_COOKIES")]
    secure_cookies: bool,
    /// Code that proves the first administrator of an empty database; made up at each start when
    /// left out. Give one when several processes serve one database.
    #[arg(long, env = "VAAKA_FIRST_CODE", hide_env_values = true)]
    first_code: Option<String>,
    /// Let the clock start at this moment instead of now; for pictures and practice.
    #[arg(long, env = "VAAKA_CLOCK_START")]
    clock_start: Option<String>,
}

fn moment(text: Option<&str>) -> Result<Option<Timestamp>, AppError> {
    let parse = |text: &str| {
        text.parse().map_err(|_| AppError::Setting {
            name: "VAAKA_CLOCK_START",
            value: text.to_owned(),
            expected: "give a moment with its offset, for example 2026-11-24T22:34:00+02:00",
        })
    };
    text.filter(|text| !text.is_empty()).map(parse).transpose()
}

/// Runs a command to its end.
///
/// # Errors
/// [`AppError`].
pub async fn run(line: CommandLine) -> Result<(), AppError> {
    let filter =
        EnvFilter::try_from_default_env().unwrap_or_else(|_| EnvFilter::new("warn,vaaka=info"));
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).init();
    match line.command {
        Command::Migrate(owner) => {
            for name in migrate::run(&owner.owner_database_url).await? {
                println!("migrated: {name}");
            }
            Ok(())
        }
        Command::DemoLoad(load) => demo_load(load).await,
        Command::Serve(serve) => serve_until_stopped(serve).await,
    }
}

async fn demo_load(load: DemoLoad) -> Result<(), AppError> {
    let ends_at = moment(load.ends_at.as_deref())?.unwrap_or_else(Timestamp::now);
    migrate::run(&load.owner.owner_database_url).await?;
    let store = Store::new(&load.owner.owner_database_url, 1)?;
    let mut connection = store.connection().await?;
    if vaaka_store::people::count(&mut connection).await? > 0 {
        println!("This database holds data already; nothing was loaded.");
        return Ok(());
    }
    println!("Making the demo world: {} days of checks, three shifts each …", load.days);
    let world = demo::generate(&demo::Request { days: load.days, seed: load.seed, ends_at })?;
    println!("Writing {} checks with {} readings …", world.checks.len(), world.readings.len());
    demo::load(&mut connection, world).await?;
    println!("The demo world is there.");
    Ok(())
}

async fn serve_until_stopped(serve: Serve) -> Result<(), AppError> {
    let store = Store::new(&serve.database_url, serve.connections)?;
    let clock: Arc<dyn Clock> = match moment(serve.clock_start.as_deref())? {
        Some(start) => Arc::new(ShiftedClock::starting_at(start)),
        None => Arc::new(SystemClock),
    };
    let settings = Settings {
        secure_cookies: serve.secure_cookies,
        demo_sign_ins: if serve.demo { demo::sign_ins() } else { Vec::new() },
        first_code: serve.first_code.clone().unwrap_or_else(first_code),
    };
    let mut connection = store.connection().await?;
    let nobody = vaaka_store::people::count(&mut connection).await? == 0;
    drop(connection);
    if nobody {
        println!(
            "Nobody is registered yet. Code for the first administrator: {}",
            settings.first_code
        );
    }
    let listener = TcpListener::bind(serve.listen).await.map_err(|cause| AppError::Io {
        what: format!("cannot listen on {}, is another copy running there?", serve.listen),
        cause,
    })?;
    let address = listener.local_addr().unwrap_or(serve.listen);
    println!("Listening on http://{address}");
    let state = AppState::new(store.clone(), clock, settings);
    let sweeper = tokio::spawn(sweep_sessions(store));
    let served = vaaka_web::serve(listener, state, stop_signal()).await;
    sweeper.abort();
    served.map_err(|cause| AppError::Io { what: "serving stopped".into(), cause })
}

/// A code that nobody can guess and everybody can type: four groups of four.
fn first_code() -> String {
    let letters = uuid::Uuid::new_v4().simple().to_string();
    [&letters[..4], &letters[4..8], &letters[8..12], &letters[16..20]].join("-")
}

/// Forgets ended sessions now and then.
async fn sweep_sessions(store: Store) {
    let mut hourly = tokio::time::interval(Duration::from_secs(3600));
    loop {
        hourly.tick().await;
        if let Err(error) = sessions::delete_ended(&store, Timestamp::now()).await {
            tracing::warn!(%error, "ended sessions could not be forgotten");
        }
    }
}

/// Resolves on Ctrl-C or SIGTERM.
async fn stop_signal() {
    use tokio::signal::unix::{SignalKind, signal};
    let Ok(mut terminate) = signal(SignalKind::terminate()) else {
        let _ = tokio::signal::ctrl_c().await;
        return;
    };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        _ = terminate.recv() => {}
    }
}
