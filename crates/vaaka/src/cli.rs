//! The command line.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use clap::{Args, Parser, Subcommand};
use jiff::Timestamp;
use tokio::net::TcpListener;
use tracing_subscriber::EnvFilter;
use vaaka_store::migrate::Schema;
use vaaka_store::verification::{KnownSeal, Progress, Verification, Wanted, verify};
use vaaka_store::{Store, migrate, seals, sessions, worker};
use vaaka_web::{AppState, Clock, Settings, ShiftedClock, SystemClock};

use crate::backup::{backup, restore};
use crate::mail::{Outgoing, StandIn, send_waiting, serve_stand_in};
use crate::{AppError, bench, compute, demo, init, station};

/// Checks of production test equipment, judged and charted.
#[derive(Debug, Parser)]
#[command(version, about)]
pub struct CommandLine {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Make a new installation: roles, database, tables, and a file with their addresses.
    Init(init::Init),
    /// Bring the database up to the present schema.
    Migrate(Owner),
    /// Load the demo world into an empty database.
    DemoLoad(DemoLoad),
    /// Serve the application.
    Serve(Serve),
    /// The audit trail.
    Audit {
        #[command(subcommand)]
        what: Audit,
    },
    /// Write a backup of the database into a new file.
    Backup(BackupFile),
    /// Restore a backup into an empty database.
    Restore(BackupFile),
    /// Compute something: “--list” names what there is, the input is JSON on the standard input.
    Compute(compute::Asked),
    /// Draw the control chart of a table into a file.
    Chart(DrawChart),
    /// Read instruments near this machine for a server elsewhere.
    Link(Station),
    /// Run the simulated bench: it stands in for the instruments of the demo world.
    Bench(BenchOf),
    /// Run the stand-in for a mail server, which keeps every message as a file.
    MailStandIn(MailStandIn),
}

#[derive(Debug, Args)]
struct DrawChart {
    /// A table (CSV) with a column “value”, and “measured_at” if it has times.
    table: std::path::PathBuf,
    /// Where the drawing goes.
    #[arg(long)]
    svg: std::path::PathBuf,
    /// How many of the first points make the limits; all when left out.
    #[arg(long)]
    baseline: Option<usize>,
    /// Lower tolerance limit.
    #[arg(long, allow_negative_numbers = true)]
    lower: Option<f64>,
    /// Upper tolerance limit.
    #[arg(long, allow_negative_numbers = true)]
    upper: Option<f64>,
}

#[derive(Debug, Subcommand)]
enum Audit {
    /// Look over every chain and every seal; ends with 1 when anything was changed or is gone.
    Verify(Verify),
    /// Seal what no seal covers yet.
    Seal(Reader),
}

#[derive(Debug, Args)]
struct Verify {
    #[command(flatten)]
    reader: Reader,
    /// A file into which seals were written (VAAKA_SEAL_LOG): all of it must be in the trail.
    #[arg(long)]
    seals: Option<std::path::PathBuf>,
    /// A seal that is known, as a printed record shows it: “412 3f2a90bc11de”.
    #[arg(long)]
    seal: Vec<String>,
    /// Leave out the results, which are computed again from their readings.
    #[arg(long)]
    trail_only: bool,
}

#[derive(Debug, Args)]
struct Reader {
    /// Database, as the application's role or its owner.
    #[arg(long, env = "VAAKA_DATABASE_URL", hide_env_values = true)]
    database_url: String,
}

#[derive(Debug, Args)]
struct BackupFile {
    #[command(flatten)]
    owner: Owner,
    /// The file.
    file: std::path::PathBuf,
}

#[derive(Debug, Args)]
struct Station {
    /// Address of the server, as http://machine:port.
    #[arg(long, env = "VAAKA_SERVER")]
    server: String,
    /// Key of this bench PC, made on the page Keys.
    #[arg(long, env = "VAAKA_STATION_KEY", hide_env_values = true)]
    key: String,
}

#[derive(Debug, Args)]
struct BenchOf {
    #[command(flatten)]
    reader: Reader,
    /// Address and port of its page.
    #[arg(long, env = "VAAKA_BENCH_LISTEN", default_value = "127.0.0.1:8399")]
    listen: SocketAddr,
    /// Let the clock start at this moment instead of now, as the server's does.
    #[arg(long, env = "VAAKA_CLOCK_START")]
    clock_start: Option<String>,
}

#[derive(Debug, Args)]
struct MailStandIn {
    /// Address and port.
    #[arg(long, default_value = "127.0.0.1:2525")]
    listen: SocketAddr,
    /// Folder of the messages.
    #[arg(long, default_value = "mail")]
    folder: std::path::PathBuf,
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
    /// Say of each instrument that it is read over its line to the simulated bench, whose ports begin here.
    #[arg(long)]
    bench_ports: Option<u16>,
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
    /// File to which every seal of the audit trail is appended as it is made, on another disk or machine if possible:
    /// what was cut off later is named by it.
    #[arg(long, env = "VAAKA_SEAL_LOG")]
    seal_log: Option<std::path::PathBuf>,
    /// Mail server that notices are handed over to, as host:port; none sends no mail.
    #[arg(long, env = "VAAKA_MAIL_SERVER")]
    mail_server: Option<String>,
    /// Run the stand-in for a mail server in this process and hand notices over to it; it keeps
    /// every message as a file in this folder and delivers nothing.
    #[arg(long, env = "VAAKA_MAIL_STAND_IN")]
    mail_stand_in: Option<std::path::PathBuf>,
    /// Sender of the mail.
    #[arg(long, env = "VAAKA_MAIL_FROM", default_value = "Vaaka <vaaka@localhost>")]
    mail_from: String,
    /// Address of the application as people reach it, for mails and labels.
    #[arg(long, env = "VAAKA_ADDRESS")]
    address: Option<String>,
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

/// The clock of a process, from now or from a moment.
fn clock_from(start: Option<&str>) -> Result<Arc<dyn Clock>, AppError> {
    Ok(match moment(start)? {
        Some(start) => Arc::new(ShiftedClock::starting_at(start)),
        None => Arc::new(SystemClock),
    })
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
        Command::Init(asked) => init::run(&asked).await,
        Command::Migrate(owner) => {
            for name in migrate::run(&owner.owner_database_url).await? {
                println!("migrated: {name}");
            }
            Ok(())
        }
        Command::DemoLoad(load) => demo_load(load).await,
        Command::Compute(asked) => compute::run(&asked),
        Command::Chart(asked) => draw_chart(&asked),
        Command::Audit { what } => look_after_audit(what).await,
        Command::Backup(of) => {
            let bytes = backup(&of.owner.owner_database_url, &of.file).await?;
            println!("Backed up into {}, {bytes} bytes.", of.file.display());
            Ok(())
        }
        Command::Restore(from) => {
            let found = restore(&from.owner.owner_database_url, &from.file).await?;
            println!(
                "Restored from {}: {} audit entries under {} seals, unbroken.",
                from.file.display(),
                found.entries,
                found.seals
            );
            Ok(())
        }
        Command::MailStandIn(stand_in) => {
            let listener = listen(stand_in.listen).await?;
            println!("Keeping mail in {}", stand_in.folder.display());
            serve_stand_in(listener, StandIn { folder: stand_in.folder })
                .await
                .map_err(|cause| AppError::Io { what: "the mail stand-in stopped".into(), cause })
        }
        Command::Serve(serve) => serve_until_stopped(serve).await,
        Command::Link(station) => station::run(&station.server, &station.key).await,
        Command::Bench(asked) => run_bench(asked).await,
    }
}

/// Answers on the lines of the demo world, and serves the page of the bench.
async fn run_bench(asked: BenchOf) -> Result<(), AppError> {
    let store = Store::new(&asked.reader.database_url, 8)?;
    let stands = bench::set_up(&store, clock_from(asked.clock_start.as_deref())?).await?;
    let listener = listen(asked.listen).await?;
    println!(
        "{} instruments stand on the bench; its page is http://{}",
        stands.len(),
        asked.listen
    );
    let page = bench::page(stands.clone());
    let io = |cause| AppError::Io { what: "the bench stopped".into(), cause };
    tokio::select! {
        served = axum::serve(listener, page).into_future() => served.map_err(io),
        answered = bench::answer(&stands) => answered,
        () = stop_signal() => Ok(()),
    }
}

fn draw_chart(asked: &DrawChart) -> Result<(), AppError> {
    let io = |path: &std::path::Path| {
        let what = path.display().to_string();
        move |cause| AppError::Io { what, cause }
    };
    let bytes = std::fs::read(&asked.table).map_err(io(&asked.table))?;
    let wanted =
        compute::Wanted { baseline: asked.baseline, tolerance: (asked.lower, asked.upper) };
    let (svg, said) = compute::draw_table(&bytes, wanted)
        .map_err(|words| AppError::Input(format!("{}: {words}", asked.table.display())))?;
    std::fs::write(&asked.svg, svg).map_err(io(&asked.svg))?;
    println!("{said}");
    Ok(())
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
    if let Some(first_port) = load.bench_ports {
        let by = (demo::lead(), ends_at);
        let laid = bench::lay_lines(&mut connection, &bench::Lines::at(first_port), by).await?;
        println!("{laid} instruments are read over their lines to the simulated bench.");
    }
    println!("The demo world is there.");
    Ok(())
}

async fn look_after_audit(what: Audit) -> Result<(), AppError> {
    match what {
        Audit::Seal(reader) => {
            let store = Store::new(&reader.database_url, 1)?;
            let mut connection = store.connection().await?;
            let mut sealed = 0;
            while seals::seal(&mut connection, Timestamp::now()).await?.is_some() {
                sealed += 1;
            }
            println!("{sealed} seals were set.");
            Ok(())
        }
        Audit::Verify(asked) => {
            let store = Store::new(&asked.reader.database_url, 1)?;
            let mut connection = store.connection().await?;
            let wanted = Wanted { known: known_seals(&asked)?, trail_only: asked.trail_only };
            let found = told(&mut connection, &wanted).await?;
            println!("{}", found.words());
            for fault in &found.faults {
                println!("{fault}");
            }
            if found.faults.is_empty() {
                println!("Unbroken.");
                Ok(())
            } else {
                Err(AppError::Audit { faults: found.faults.len() })
            }
        }
    }
}

/// The seals that are known from outside: those of a file, and those that were typed.
fn known_seals(asked: &Verify) -> Result<Vec<KnownSeal>, AppError> {
    let mut known = Vec::new();
    if let Some(file) = &asked.seals {
        let text = std::fs::read_to_string(file).map_err(|cause| AppError::Io {
            what: format!("the seals in {} cannot be read", file.display()),
            cause,
        })?;
        known.extend(text.lines().filter_map(KnownSeal::parse));
    }
    for typed in &asked.seal {
        let seal = KnownSeal::parse(typed).ok_or_else(|| {
            AppError::Input(format!(
                "“{typed}” is no seal: give its number and eight digits of its hash at least, like “412 3f2a90bc”"
            ))
        })?;
        known.push(seal);
    }
    Ok(known)
}

/// Looks over everything, and says on the error output how far it is.
async fn told(
    connection: &mut vaaka_store::Connection,
    wanted: &Wanted,
) -> Result<Verification, AppError> {
    let progress = Progress::default();
    let look = verify(connection, wanted, &progress);
    let mut look = std::pin::pin!(look);
    let mut every = tokio::time::interval(Duration::from_secs(2));
    every.tick().await;
    loop {
        tokio::select! {
            found = &mut look => return Ok(found?),
            _ = every.tick() => eprintln!("{} %", progress.percent()),
        }
    }
}

async fn listen(address: SocketAddr) -> Result<TcpListener, AppError> {
    TcpListener::bind(address).await.map_err(|cause| AppError::Io {
        what: format!("cannot listen on {address}, is another copy running there?"),
        cause,
    })
}

/// Where mail goes; starts the stand-in where one is asked for.
async fn outgoing(serve: &Serve, address: &str) -> Result<Option<Outgoing>, AppError> {
    let bad = |value: &str| AppError::Setting {
        name: "VAAKA_MAIL_SERVER",
        value: value.to_owned(),
        expected: "give host and port, for example mail.example:25",
    };
    let (host, port) = match (&serve.mail_stand_in, &serve.mail_server) {
        (Some(folder), _) => {
            let listener = listen(SocketAddr::from(([127, 0, 0, 1], 0))).await?;
            let port = listener.local_addr().map_or(0, |address| address.port());
            let stand_in = StandIn { folder: folder.clone() };
            tokio::spawn(serve_stand_in(listener, stand_in));
            ("127.0.0.1".to_owned(), port)
        }
        (None, Some(server)) => {
            let (host, port) = server.rsplit_once(':').ok_or_else(|| bad(server))?;
            (host.to_owned(), port.parse().map_err(|_| bad(server))?)
        }
        (None, None) => return Ok(None),
    };
    Ok(Some(Outgoing { host, port, from: serve.mail_from.clone(), address: address.to_owned() }))
}

async fn serve_until_stopped(serve: Serve) -> Result<(), AppError> {
    let store = Store::new(&serve.database_url, serve.connections)?;
    let clock = clock_from(serve.clock_start.as_deref())?;
    let settings = Settings {
        secure_cookies: serve.secure_cookies,
        demo_sign_ins: if serve.demo { demo::sign_ins() } else { Vec::new() },
        first_code: serve.first_code.clone().unwrap_or_else(first_code),
        address: serve.address.clone().unwrap_or_default(),
    };
    let mut connection = store.connection().await?;
    fits(&mut connection).await?;
    let nobody = vaaka_store::people::count(&mut connection).await? == 0;
    drop(connection);
    if nobody {
        println!(
            "Nobody is registered yet. Code for the first administrator: {}",
            settings.first_code
        );
    }
    let listener = listen(serve.listen).await?;
    let address = listener.local_addr().unwrap_or(serve.listen);
    println!("Listening on http://{address}");
    let state = AppState::new(store.clone(), clock.clone(), settings);
    let base = serve.address.clone().unwrap_or_else(|| format!("http://{address}"));
    let outgoing = outgoing(&serve, &base).await?;
    let background = [
        tokio::spawn(sweep_sessions(store.clone())),
        tokio::spawn(seal_audit(store.clone(), clock.clone(), serve.seal_log.clone())),
        tokio::spawn(work_off(state.clone(), clock.clone())),
        tokio::spawn(empty_outbox(store, clock, outgoing)),
    ];
    let served = vaaka_web::serve(listener, state, stop_signal()).await;
    for task in background {
        task.abort();
    }
    served.map_err(|cause| AppError::Io { what: "serving stopped".into(), cause })
}

/// Says what to do where the database is of another version than this program.
async fn fits(connection: &mut vaaka_store::Connection) -> Result<(), AppError> {
    let words = match migrate::schema(connection).await? {
        Schema::Present => return Ok(()),
        Schema::Missing => "This database has no tables of Vaaka yet. Run “vaaka migrate” as its owner first (VAAKA_OWNER_DATABASE_URL), or “vaaka init” for a new installation.".to_owned(),
        Schema::Older { has, needs } => format!(
            "This database is at version {has}, and this program needs {needs}. Make a backup (“vaaka backup FILE”), then run “vaaka migrate”."
        ),
        Schema::Newer { has, knows } => format!(
            "This database is at version {has}, and this program knows {knows} only. Start the newer program, or restore the backup that was made before the upgrade."
        ),
    };
    Err(AppError::Schema(words))
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

/// Seals the audit trail every few seconds.
async fn seal_audit(store: Store, clock: Arc<dyn Clock>, log: Option<std::path::PathBuf>) {
    let mut every = tokio::time::interval(Duration::from_secs(5));
    loop {
        every.tick().await;
        loop {
            let sealed = match store.connection().await {
                Ok(mut connection) => seals::seal(&mut connection, clock.now()).await,
                Err(error) => Err(error),
            };
            match sealed {
                Ok(Some(seal)) => {
                    if let Some(file) = &log
                        && let Err(error) = append_seal(file, &seal)
                    {
                        tracing::error!(%error, file = %file.display(), "a seal could not be written into its file");
                    }
                }
                Ok(None) => break,
                Err(error) => {
                    tracing::warn!(%error, "the audit trail could not be sealed");
                    break;
                }
            }
        }
    }
}

/// Does long work in parts, beside the requests; several processes of one database share it.
async fn work_off(state: AppState, clock: Arc<dyn Clock>) {
    let mut every = tokio::time::interval(Duration::from_secs(1));
    loop {
        every.tick().await;
        loop {
            let worked = match state.store.connection().await {
                Ok(mut connection) => worker::work(&mut connection, &state, clock.now()).await,
                Err(error) => Err(error),
            };
            match worked {
                Ok(true) => {}
                Ok(false) => break,
                Err(error) => {
                    tracing::warn!(%error, "long work could not go on");
                    break;
                }
            }
        }
    }
}

/// Appends a seal to its file and sees it onto the disk.
fn append_seal(file: &std::path::Path, seal: &seals::Seal) -> std::io::Result<()> {
    use std::io::Write;
    let mut file = std::fs::OpenOptions::new().create(true).append(true).open(file)?;
    writeln!(file, "{} {}", seal.line(), seal.at.0)?;
    file.sync_data()
}

/// Hands waiting mail over every few seconds; without a mail server it stays in the outbox.
async fn empty_outbox(store: Store, clock: Arc<dyn Clock>, outgoing: Option<Outgoing>) {
    let Some(outgoing) = outgoing else { return };
    let mut every = tokio::time::interval(Duration::from_secs(5));
    loop {
        every.tick().await;
        if let Err(error) = send_waiting(&store, &outgoing, clock.now()).await {
            tracing::warn!(%error, "mail could not be handed over");
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
