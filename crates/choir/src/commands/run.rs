//! `choir run`: brings up a sheet, serves its control socket, and shows it.

use super::{folder_of, interrupted, load, until_stopped};
use crate::{
    args::RunArgs,
    exit::Failure,
    live,
    output::{events::Printer, tables},
};
use choir_core::{
    command::{By, Command},
    view::ShowView,
};
use choir_show::{
    Show,
    control::{self, Claim},
};
use std::{
    io::{IsTerminal, stdout},
    path::Path,
    time::Duration,
};

/// How often a watched sheet is looked at.
const LOOK_EVERY: Duration = Duration::from_millis(300);

pub async fn run(args: RunArgs) -> Result<(), Failure> {
    let sheet = load(&args.sheet, true)?;
    let claim = control::claim(&args.sheet)?;
    let show = Show::start(&sheet, folder_of(&args.sheet)).await?;
    show.set_file(&args.sheet);
    let how = Presentation { for_time: args.for_time, plain: args.plain, json: args.json };
    let watched = args.watch_sheet.then_some(args.sheet.as_path());
    let view = present(&show, claim, how, watched).await?;
    closing(&view, args.json);
    Ok(())
}

/// How a show is to be shown.
pub struct Presentation {
    pub for_time: Option<Duration>,
    pub plain: bool,
    pub json: bool,
}

/// Shows a running show until it is to end, and ends it; gives its last view. A sheet that is
/// watched is applied at every save.
pub async fn present(show: &Show, claim: Claim, how: Presentation, watched: Option<&Path>) -> Result<ShowView, Failure> {
    let server = tokio::spawn(control::serve(claim, show.clone()));
    let live = stdout().is_terminal() && !how.plain && !how.json;
    let reloads = async {
        match watched {
            Some(sheet) => reload_when_saved(show, sheet).await,
            None => std::future::pending().await,
        }
    };
    let printer = Printer::new(show);
    let result = if live {
        tokio::select! {
            r = live::run(live::Source::Here(show.clone())) => r,
            () = show.stop_asked() => Ok(()),
            () = until_stopped(how.for_time) => Ok(()),
            () = reloads => Ok(()),
        }
    } else {
        tokio::select! {
            () = printer.follow() => {}
            () = show.stop_asked() => {}
            () = until_stopped(how.for_time) => {}
            () = reloads => {}
        }
        Ok(())
    };
    let view = show.view();
    server.abort();
    if live {
        printer.skip();
    }
    show.stop().await;
    // How recordings came out.
    printer.print();
    result.map(|()| view)
}

/// Applies the sheet whenever it has been saved; what is wrong with it becomes an event.
async fn reload_when_saved(show: &Show, sheet: &Path) {
    let stamp = || std::fs::metadata(sheet).and_then(|m| Ok((m.modified()?, m.len()))).ok();
    let mut applied = stamp();
    let mut seen = applied;
    let mut tick = tokio::time::interval(LOOK_EVERY);
    loop {
        tick.tick().await;
        let now = stamp();
        // Two looks alike: an editor may still be writing.
        if now.is_some() && now != applied && now == seen {
            applied = now;
            // A refusal is an event of the show.
            let _ = show.execute(By::Sheet, Command::Reload).await;
        }
        seen = now;
    }
}

/// The closing table or document.
pub fn closing(view: &ShowView, json: bool) {
    if json {
        println!("{}", serde_json::to_string_pretty(view).unwrap_or_default());
    } else {
        print!("{}", tables::show(view, tables::width()));
    }
}

/// Ctrl-C while something is being prepared.
pub async fn or_interrupted<T>(work: impl Future<Output = T>) -> Result<T, Failure> {
    tokio::select! {
        done = work => Ok(done),
        () = interrupted() => Err(Failure::new(crate::exit::FAILED, "stopped before it had begun")),
    }
}
