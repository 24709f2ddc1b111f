//! `choir run`: brings up a sheet, serves its control socket, and shows it.

use super::{folder_of, interrupted, load, until_stopped};
use crate::{
    args::RunArgs,
    exit::Failure,
    live,
    output::{events::Printer, tables},
};
use choir_core::view::ShowView;
use choir_show::{
    Show,
    control::{self, Claim},
};
use std::{
    io::{IsTerminal, stdout},
    time::Duration,
};
use tokio::sync::mpsc;

pub async fn run(args: RunArgs) -> Result<(), Failure> {
    let sheet = load(&args.sheet, true)?;
    let claim = control::claim(&args.sheet)?;
    let show = Show::start(&sheet, folder_of(&args.sheet)).await?;
    let how = Presentation { for_time: args.for_time, plain: args.plain, json: args.json };
    let view = present(&show, claim, how, None::<std::future::Pending<()>>).await?;
    closing(&view, args.json);
    Ok(())
}

/// How a show is to be shown.
pub struct Presentation {
    pub for_time: Option<Duration>,
    pub plain: bool,
    pub json: bool,
}

/// Shows a running show until it is to end, and ends it; gives its last view.
pub async fn present(show: &Show, claim: Claim, how: Presentation, beside: Option<impl Future<Output = ()>>) -> Result<ShowView, Failure> {
    let (asked, mut stop_asked) = mpsc::channel(1);
    let server = tokio::spawn(control::serve(claim, show.clone(), asked));
    let live = stdout().is_terminal() && !how.plain && !how.json;
    let beside = async {
        match beside {
            Some(b) => b.await,
            None => std::future::pending().await,
        }
    };
    let printer = Printer::new(show);
    let result = if live {
        tokio::select! {
            r = live::run(live::Source::Here(show.clone())) => r,
            _ = stop_asked.recv() => Ok(()),
            () = until_stopped(how.for_time) => Ok(()),
            () = beside => Ok(()),
        }
    } else {
        tokio::select! {
            () = printer.follow() => {}
            _ = stop_asked.recv() => {}
            () = until_stopped(how.for_time) => {}
            () = beside => {}
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
