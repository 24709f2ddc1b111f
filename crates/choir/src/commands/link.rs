//! `choir link`: one link without a patch sheet. It is a show of one line and one feed.

use super::{interrupted, read_url};
use crate::{
    args::LinkArgs,
    exit::{FAILED, Failure, USAGE},
    output::{events::Printer, tables},
};
use choir_core::{
    facts::State,
    link::{Link, redact},
    sheet::Sheet,
    view::ShowView,
};
use choir_host::Stop;
use choir_show::Show;
use std::{path::Path, time::Duration};

/// How long a file waits for the far end before it plays anyway.
const FAR_END: Duration = Duration::from_secs(30);

pub async fn run(args: LinkArgs) -> Result<(), Failure> {
    let (from, to) = (read_url(&args.from), read_url(&args.to));
    let (from, to) = (from?, to?);
    let to_stdout = matches!(&to, Link::File(f) if f.path.is_none());
    if to_stdout && (args.json || args.every.is_some()) {
        return Err(Failure::new(USAGE, "the media goes to standard output, so the JSON cannot: write the media to a file"));
    }
    for (text, wrong) in [(&args.from, from.cannot_come_in()), (&args.to, to.cannot_go_out())] {
        if let Some((what, remedy)) = wrong {
            return Err(Failure::new(USAGE, format!("{}: {what} {remedy}", redact(text))));
        }
    }
    let mut sheet = Sheet::of_one("link", from, vec![to]);
    let base;
    // Paths of the two links count from here; that of a group's key from its sheet.
    (sheet.stave, base) = args.lan.settings()?;
    sheet.stave.key = sheet.stave.key.map(|k| k.below(&base));
    let (open_gate, gate) = Stop::new();
    let show = Show::start_gated(&sheet, Path::new("."), &gate).await?;
    let timed = async {
        match args.for_time {
            Some(t) => tokio::time::sleep(t).await,
            None => std::future::pending().await,
        }
    };
    let open = async {
        // A file begins when somebody is there to see its beginning.
        let _ = tokio::time::timeout(FAR_END, show.outs_up()).await;
        open_gate.now();
        std::future::pending::<()>().await;
    };
    let printer = Printer::new(&show);
    let printed = !args.json || args.every.is_none();
    let follow = async { if printed { printer.follow().await } else { std::future::pending().await } };
    tokio::select! {
        () = show.played_out() => show.finish().await,
        () = timed => {}
        () = interrupted() => {}
        () = open => {}
        () = follow => {}
        () = every(&show, args.every) => {}
    }
    show.stop().await;
    if printed {
        printer.print();
    }
    let view = show.view();
    if args.json {
        println!("{}", document(&view));
    } else if to_stdout {
        eprint!("{}", tables::show(&view, tables::width()));
    } else {
        print!("{}", tables::show(&view, tables::width()));
    }
    let arrived = view.lines.first().is_some_and(|l| l.link.packets > 0);
    if arrived { Ok(()) } else { Err(Failure::new(FAILED, format!("nothing arrived: {}", reason(&view)))) }
}

/// The trouble: a file that never began waited for the far end, so the far end's reason counts.
fn reason(view: &ShowView) -> String {
    let out = view.feeds.first().and_then(|f| f.outs.first()).filter(|o| o.state == Some(State::Broken));
    let from = view.lines.first().map(|l| &l.link).filter(|l| l.state == Some(State::Broken) || out.is_none());
    from.or(out).map(|l| l.reason.clone()).unwrap_or_default()
}

/// All counters of both ends, in one line.
fn document(view: &ShowView) -> String {
    let line = view.lines.first();
    serde_json::json!({
        "from": line.map(|l| &l.link),
        "media": line.map(|l| &l.media),
        "delay_ms": line.and_then(|l| l.delay_ms),
        "to": view.feeds.first().and_then(|f| f.outs.first()),
        "seconds": view.now_ms.saturating_sub(view.started_ms) as f64 / 1000.0,
    })
    .to_string()
}

async fn every(show: &Show, time: Option<Duration>) {
    let Some(time) = time.filter(|t| !t.is_zero()) else { return std::future::pending().await };
    let mut tick = tokio::time::interval(time);
    tick.tick().await;
    loop {
        tick.tick().await;
        println!("{}", document(&show.view()));
    }
}
