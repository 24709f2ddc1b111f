//! `choir`: connects cameras, encoders and field units to switching software, and keeps them on
//! air.
//!
//! Three steps: [`args`] parses to plain data, [`commands`] resolves and runs, [`output`] and
//! [`live`] show.

mod args;
mod commands;
mod exit;
mod live;
mod output;
mod private;

use args::{Args, Command};
use clap::Parser;
use std::process::ExitCode;
use tracing_subscriber::{
    Layer,
    filter::{LevelFilter, Targets},
    layer::SubscriberExt,
    util::SubscriberInitExt,
};

fn main() -> ExitCode {
    private::leave_no_core();
    private::hide_passphrases();
    let args = Args::parse();
    let level = match args.verbose {
        0 => LevelFilter::WARN,
        1 => LevelFilter::INFO,
        2 => LevelFilter::DEBUG,
        _ => LevelFilter::TRACE,
    };
    let wanted = std::env::var("CHOIR_LOG").ok().and_then(|filter| filter.parse::<Targets>().ok());
    let filter = wanted.unwrap_or_else(|| Targets::new().with_default(level));
    let log = tracing_subscriber::fmt::layer().with_writer(std::io::stderr).with_filter(filter);
    tracing_subscriber::registry().with(log).init();
    // Hundreds of links have a socket each and more.
    choir_host::allow_many_files();
    let runtime = match tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build() {
        Ok(runtime) => runtime,
        Err(e) => {
            eprintln!("choir: cannot start: {e}");
            return ExitCode::from(exit::SYSTEM);
        }
    };
    let result = runtime.block_on(async {
        match args.command {
            Command::Demo(a) => commands::demo::run(a).await,
            Command::Link(a) => commands::link::run(a).await,
            Command::Find(a) => commands::find::run(a).await,
            Command::Device(a) => commands::device::run(a).await,
            Command::Ptz(a) => commands::ptz::run(a).await,
            Command::Stave(a) => commands::stave::run(a).await,
            Command::Inspect(a) => commands::inspect::run(a).await,
            Command::Compare(a) => commands::compare::run(a).await,
            Command::Check(a) => commands::check::run(&a),
            Command::New(a) => commands::new::run(a).await,
            Command::Line(a) => commands::entries::line(a),
            Command::Feed(a) => commands::entries::feed(a),
            Command::Clip(a) => commands::clip::run(a),
            Command::Card(a) => commands::card::run(&a),
            Command::Budget(a) => commands::budget::run(&a),
            Command::Advise(a) => commands::advise::run(&a),
            Command::Path(a) => commands::path::run(a).await,
            Command::Bench(a) => commands::bench::run(a).await,
            Command::Linecheck(a) => commands::linecheck::run(a).await,
            Command::Run(a) => commands::run::run(a).await,
            Command::Status(a) => commands::ask::status(a, args.verbose > 0).await,
            Command::Watch(a) => commands::ask::watch(a).await,
            Command::View(a) => commands::view::run(a).await,
            Command::Snap(a) => commands::snap::run(a).await,
            Command::Next(a) => commands::ask::next(a).await,
            Command::Take(a) => commands::ask::take(a).await,
            Command::Wall(a) => commands::ask::wall(a).await,
            Command::Rota(a) => commands::ask::rota(a).await,
            Command::Record(a) => commands::record::run(a).await,
            Command::Hold(a) => commands::ask::hold(a).await,
            Command::Release(a) => commands::ask::release(a).await,
            Command::Ack(a) => commands::ask::ack(a).await,
            Command::Reload(a) => commands::ask::reload(a).await,
            Command::Stop(a) => commands::ask::stop(a).await,
            Command::Sim(a) => commands::sim::run(*a).await,
            Command::Completions { shell } => {
                commands::completions(shell);
                Ok(())
            }
        }
    });
    // A blocked read of standard input must not hold up the end.
    runtime.shutdown_background();
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => {
            if !e.text.is_empty() {
                eprintln!("choir: {}", e.text);
            }
            ExitCode::from(e.code)
        }
    }
}
