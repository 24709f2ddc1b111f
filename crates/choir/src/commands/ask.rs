//! Commands that talk to a running show.

use crate::{
    args::{AckArgs, HoldArgs, NextArgs, RotaAction, RotaArgs, ShowArgs, StatusArgs, TakeArgs, WallArgs},
    exit::{Failure, SHOW, USAGE},
    live,
    output::{alarms, one_line, recordings, rotas, tables},
};
use choir_core::{
    model::RotaOrder,
    spelling::did_you_mean,
    view::{LineView, ShowView},
};
use choir_show::control::{Answer, Client, Request};
use std::{
    io::{IsTerminal, stdout},
    path::Path,
};

pub(super) async fn ask(sheet: Option<&Path>, request: &Request) -> Result<(), Failure> {
    match Client::connect(sheet).await?.ask(request).await? {
        Answer::Done { said } => {
            println!("{said}");
            Ok(())
        }
        Answer::Refused { why } => Err(Failure::new(SHOW, why)),
        Answer::View(_) | Answer::Pictures { .. } | Answer::Live { .. } => Err(choir_show::control::ControlError::Strange.into()),
    }
}

/// The running show, as this asks for it.
pub(super) async fn view(sheet: Option<&Path>, request: &Request) -> Result<Box<ShowView>, Failure> {
    match Client::connect(sheet).await?.ask(request).await? {
        Answer::View(view) => Ok(view),
        _ => Err(choir_show::control::ControlError::Strange.into()),
    }
}

pub async fn status(args: StatusArgs, verbose: bool) -> Result<(), Failure> {
    // A line's or feed's name has no dot and no slash.
    let (sheet, name) = match args.what {
        Some(what) if what.contains(['.', '/']) || Path::new(&what).exists() => (Some(what.into()), None),
        what => (args.sheet, what),
    };
    let request = name.as_ref().map_or(Request::View, |name| Request::Look { histories: vec![name.clone()] });
    let view = view(sheet.as_deref(), &request).await?;
    if let Some(name) = name {
        return one(&view, &name, args.json);
    }
    if args.json {
        println!("{}", serde_json::to_string_pretty(&view).unwrap_or_default());
    } else {
        print!("{}", tables::show(&view, tables::width()));
        if !view.rotas.is_empty() {
            print!("\n{}", rotas::list(&view.rotas));
        }
        if !view.recordings.is_empty() {
            print!("\n{}", recordings::list(&view.recordings));
        }
        if verbose && !view.threads.is_empty() {
            print!("\n{}", tables::threads(&view.threads, tables::width()));
        }
    }
    Ok(())
}

/// One line or feed.
fn one(view: &ShowView, name: &str, json: bool) -> Result<(), Failure> {
    let (line, feed) = (view.lines.iter().find(|l| l.name == name), view.feeds.iter().find(|f| f.name == name));
    let text = match (line, feed) {
        (Some(line), _) if json => serde_json::to_string_pretty(line).unwrap_or_default() + "\n",
        (Some(line), _) => one_line::line(line, view.now_ms),
        (None, Some(feed)) if json => serde_json::to_string_pretty(feed).unwrap_or_default() + "\n",
        (None, Some(feed)) => one_line::feed(feed, view.lines.iter().find(|l| l.name == feed.line), view.now_ms),
        (None, None) => {
            let names: Vec<&str> =
                view.lines.iter().map(|l| &l.name).chain(view.feeds.iter().map(|f| &f.name)).map(String::as_str).collect();
            return Err(Failure::new(SHOW, format!("there is no line or feed \"{name}\". {}", did_you_mean(name, &names))));
        }
    };
    print!("{text}");
    Ok(())
}

pub async fn watch(args: ShowArgs) -> Result<(), Failure> {
    if !stdout().is_terminal() {
        return Err(Failure::new(USAGE, "watch needs a terminal: use \"choir status\" or \"choir status --json\""));
    }
    let client = Client::connect(args.sheet.as_deref()).await?;
    live::run(live::Source::There(client)).await
}

pub async fn take(args: TakeArgs) -> Result<(), Failure> {
    let pairs: Vec<Option<(String, String)>> =
        args.what.iter().map(|what| what.split_once('=').map(|(feed, line)| (feed.to_owned(), line.to_owned()))).collect();
    let request = match (pairs.iter().flatten().count(), &args.what[..]) {
        (0, [feed]) => Request::Take { feed: feed.clone(), line: None },
        (0, [feed, line]) => Request::Take { feed: feed.clone(), line: Some(line.clone()) },
        (n, all) if n == all.len() => Request::TakeTogether { takes: pairs.into_iter().flatten().collect() },
        _ => return Err(Failure::new(USAGE, "write FEED [LINE] for one feed, or FEED=LINE for each of several")),
    };
    ask(args.sheet.as_deref(), &request).await
}

pub async fn wall(args: WallArgs) -> Result<(), Failure> {
    if let Some(wall) = args.wall {
        return ask(args.sheet.as_deref(), &Request::Wall { wall, line: args.line }).await;
    }
    let view = view(args.sheet.as_deref(), &Request::Look { histories: Vec::new() }).await?;
    let walls: Vec<_> = view.lines.iter().filter(|l| l.link.url.starts_with("wall://")).collect();
    if args.json {
        println!("{}", serde_json::to_string_pretty(&walls).unwrap_or_default());
    } else if walls.is_empty() {
        println!("the sheet has no wall: a [[line]] with from = \"wall://2x2\"");
    } else {
        let row = |l: &&LineView| {
            let shows = l.full.as_ref().map_or_else(|| "all its lines".to_owned(), |one| format!("{one} alone"));
            vec![l.name.clone(), l.link.url.clone(), shows, if l.feeds.is_empty() { "-".into() } else { l.feeds.join(", ") }]
        };
        let rows: Vec<Vec<String>> = walls.iter().map(row).collect();
        print!("{}", tables::table(&["wall", "made of", "shows", "on feeds"], &rows));
    }
    Ok(())
}

pub async fn rota(args: RotaArgs) -> Result<(), Failure> {
    let (order, one) = match args.action {
        None => {
            let view = view(args.sheet.as_deref(), &Request::Look { histories: Vec::new() }).await?;
            if args.json {
                println!("{}", serde_json::to_string_pretty(&view.rotas).unwrap_or_default());
            } else if view.rotas.is_empty() {
                println!("the sheet has no [[rota]]");
            } else {
                print!("{}", rotas::list(&view.rotas));
            }
            return Ok(());
        }
        Some(RotaAction::Start(one)) => (RotaOrder::Start, one),
        Some(RotaAction::Pause(one)) => (RotaOrder::Pause, one),
        Some(RotaAction::Skip(one)) => (RotaOrder::Skip, one),
        Some(RotaAction::Stop(one)) => (RotaOrder::Stop, one),
    };
    ask(one.sheet.as_deref(), &Request::Rota { name: one.name, order }).await
}

pub async fn next(args: NextArgs) -> Result<(), Failure> {
    ask(args.sheet.as_deref(), &Request::Next { feed: args.feed, line: args.line }).await
}

pub async fn hold(args: HoldArgs) -> Result<(), Failure> {
    ask(args.sheet.as_deref(), &Request::Hold { line: args.what }).await
}

pub async fn release(args: HoldArgs) -> Result<(), Failure> {
    ask(args.sheet.as_deref(), &Request::Release { line: args.what }).await
}

pub async fn ack(args: AckArgs) -> Result<(), Failure> {
    if !args.what.is_empty() || args.all {
        return ask(args.sheet.as_deref(), &Request::Acknowledge { what: args.what }).await;
    }
    let view = view(args.sheet.as_deref(), &Request::Look { histories: Vec::new() }).await?;
    if args.json {
        println!("{}", serde_json::to_string_pretty(&view.alarms).unwrap_or_default());
    } else if view.alarms.is_empty() {
        println!("no alarms");
    } else {
        print!("{}", alarms::list(&view.alarms, tables::width()));
    }
    Ok(())
}

pub async fn reload(args: ShowArgs) -> Result<(), Failure> {
    ask(args.sheet.as_deref(), &Request::Reload).await
}

pub async fn stop(args: ShowArgs) -> Result<(), Failure> {
    ask(args.sheet.as_deref(), &Request::Stop).await
}
