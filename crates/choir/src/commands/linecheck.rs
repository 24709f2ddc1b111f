//! `choir linecheck`: every line and feed before the show.

use super::{folder_of, interrupted, load, replace_text, run::or_interrupted, which_sheet};
use crate::{
    args::LinecheckArgs,
    exit::{FAILED, Failure, USAGE},
    output::{linecheck as shown, linecheck_page, palette::colours, plural, redraw::Redraw},
};
use choir_core::{
    linecheck::{Limits, Mark, Row, Step},
    link::{Link, show_url},
    model::LookBudget,
    sheet::{Entry, Sheet},
    spelling::did_you_mean,
};
use choir_host::{Stop, clock::unix_ms};
use choir_ports::WayCause;
use choir_show::{
    Show,
    control::{self, Claim, Client, ControlError},
    linecheck::{Checked, Patience, Watched, check},
};
use choir_sim::regatta;
use std::{
    io::{IsTerminal, stdout},
    path::{Path, PathBuf},
};
use tokio::sync::mpsc;

pub async fn run(args: LinecheckArgs) -> Result<(), Failure> {
    let (path, names) = split(&args)?;
    let (stop_far, far_stop) = Stop::new();
    let (sheet, far) = if args.demo {
        let sheet = super::demo::sheet(&args.net)?;
        let far = if Client::connect(Some(&super::demo::claim_name(&args.net))).await.is_ok() {
            None
        } else {
            eprintln!("The Tarn Hollow Regatta is getting ready: its devices encode their pictures.");
            Some(or_interrupted(regatta::start(&args.net, &far_stop)).await??)
        };
        (sheet, far)
    } else {
        (load(&path, false)?, None)
    };
    let result = check_all(&args, &path, sheet, &names).await;
    stop_far.now();
    if let Some(far) = far {
        far.wait().await;
    }
    result
}

async fn check_all(args: &LinecheckArgs, path: &Path, sheet: Sheet, names: &[String]) -> Result<(), Failure> {
    let lines = chosen(&sheet, names)?;
    let name = if args.demo { super::demo::claim_name(&args.net) } else { path.to_owned() };
    let running = match control::claim(&name) {
        // Kept: nobody is to start the sheet meanwhile.
        Ok(claim) => Ok(claim),
        Err(ControlError::AlreadyRunning { .. }) => {
            let what = if args.demo { "the demo".into() } else { path.display().to_string() };
            eprintln!("{what} is running: it is looked at as it runs, without stills");
            Err(Client::connect(Some(&name)).await?)
        }
        Err(e) => return Err(e.into()),
    };
    let (begun, checked) = (unix_ms(), gather(args, (path, &name), &sheet, &lines, running).await?);
    let title = &sheet.show.name;
    if args.json {
        let failed = checked.rows.iter().filter(|r| r.mark() == Mark::Failed).count();
        let document = serde_json::json!({
            "show": title, "at_ms": begun, "failed": failed, "ended_early": checked.cut_short, "rows": checked.rows,
            "stills": checked.stills.keys().collect::<Vec<_>>(),
        });
        println!("{document:#}");
    } else {
        if !args.no_stills {
            print!("{}", shown::stills(&checked));
        }
        print!("{}", shown::text(&checked.rows, crate::output::tables::width(), colours(stdout().is_terminal())));
        println!("{}", shown::summary(&checked.rows));
    }
    if let Some(file) = &args.html {
        replace_text(file, &linecheck_page::html(title, begun, &checked))?;
        eprintln!("{}: the result on one page, with {}", file.display(), plural(checked.stills.len(), "still"));
    }
    let bad = checked.cut_short || checked.rows.iter().any(|r| r.mark() == Mark::Failed);
    if checked.cut_short {
        eprintln!("stopped early: open items are not judged");
    }
    if bad { Err(Failure::told(FAILED)) } else { Ok(()) }
}

/// Sheet and names: the first argument is the sheet when it is a file.
fn split(args: &LinecheckArgs) -> Result<(PathBuf, Vec<String>), Failure> {
    if args.demo {
        return Ok((PathBuf::from("."), args.what.clone()));
    }
    match args.what.split_first() {
        Some((first, rest)) if first.ends_with(".toml") || Path::new(first).is_file() => Ok((PathBuf::from(first), rest.to_vec())),
        _ => Ok((which_sheet(None)?, args.what.clone())),
    }
}

fn chosen(sheet: &Sheet, names: &[String]) -> Result<Vec<String>, Failure> {
    let all: Vec<&str> = sheet.lines.iter().map(|l| l.name.as_str()).collect();
    if let Some(strange) = names.iter().find(|n| !all.contains(&n.as_str())) {
        return Err(Failure::new(USAGE, format!("there is no line \"{strange}\". {}", did_you_mean(strange, &all))));
    }
    if all.is_empty() {
        return Err(Failure::new(USAGE, "the sheet has no line to check"));
    }
    Ok(if names.is_empty() { all.iter().map(|n| (*n).to_owned()).collect() } else { names.to_vec() })
}

/// The part of a sheet that these lines need.
fn part(sheet: &Sheet, lines: &[String]) -> Sheet {
    let mut part = sheet.clone();
    part.lines.retain(|l| lines.contains(&l.name));
    part.feeds.retain(|f| lines.contains(&f.line));
    // To look at pictures would take from the machine what the check is to measure.
    part.show.pictures = LookBudget::OFF;
    part
}

async fn gather(
    args: &LinecheckArgs,
    (path, name): (&Path, &Path),
    sheet: &Sheet,
    lines: &[String],
    running: Result<Claim, Client>,
) -> Result<Checked, Failure> {
    let (end, stop) = Stop::new();
    let listener = tokio::spawn(async move {
        interrupted().await;
        end.now();
        // Dropping it would look like an end of its own.
        std::future::pending::<()>().await;
    });
    let limits = Limits { first_picture: args.first_picture, delay: args.delay, loss: args.loss };
    let patience = Patience { wait: args.wait, look: args.for_time };
    let (tell, progress) = mpsc::channel(64);
    let drawn = tokio::spawn(draw(progress));
    let mut all = Checked::default();
    match running {
        Err(client) => {
            all = check(sheet, Watched::There(Box::new(client)), lines, &limits, patience, tell.clone(), stop.clone()).await;
        }
        Ok(claim) => {
            let groups: Vec<Vec<String>> =
                if args.in_turn { lines.iter().map(|l| vec![l.clone()]).collect() } else { vec![lines.to_vec()] };
            let mut claim = Some(claim);
            for group in groups {
                let mut part = part(sheet, &group);
                let Some(show) = open(&mut part, folder_of(path), &mut all.rows).await? else { continue };
                let claimed = match claim.take() {
                    Some(claim) => claim,
                    None => control::claim(name)?,
                };
                // Whoever asks meanwhile gets an answer, as from any running show.
                let server = tokio::spawn(control::serve(claimed, show.clone()));
                let (end_group, group_stop) = stop.child();
                let asked = async {
                    show.stop_asked().await;
                    end_group.now();
                    std::future::pending::<()>().await;
                };
                let checked = tokio::select! {
                    checked = check(&part, Watched::Here(show.clone()), &group, &limits, patience, tell.clone(), group_stop) => checked,
                    () = asked => Checked::default(),
                };
                server.abort();
                let _ = server.await;
                show.stop().await;
                all.rows.extend(checked.rows);
                all.stills.extend(checked.stills);
                all.cut_short |= checked.cut_short;
                if checked.cut_short {
                    break;
                }
            }
        }
    }
    drop(tell);
    let _ = drawn.await;
    listener.abort();
    // Lines in the order of the sheet, then feeds.
    let place = |r: &Row| match &r.entry {
        Entry::Line(name) => (0, sheet.lines.iter().position(|l| l.name == *name)),
        Entry::Feed(name) => (1, sheet.feeds.iter().position(|f| f.name == *name)),
        Entry::Stave => (2, None),
    };
    all.rows.sort_by_key(place);
    Ok(all)
}

/// Brings up what can be brought up; what cannot gets its row and is left out.
async fn open(part: &mut Sheet, base: &Path, rows: &mut Vec<Row>) -> Result<Option<Show>, Failure> {
    while !part.lines.is_empty() {
        let error = match Show::start(part, base).await {
            Ok(show) => return Ok(Some(show)),
            Err(e) => e,
        };
        let step = if matches!(error.cause, WayCause::Secret(_)) { Step::Encryption } else { Step::Port };
        let why = error.cause.to_string();
        let unopened = |title: &str, link: &Link| Row::unopened(&error.entry, title, show_url(link), step, why.clone());
        match &error.entry {
            Entry::Line(name) => {
                rows.extend(part.lines.iter().filter(|l| l.name == *name).map(|l| unopened(&l.title, &l.from)));
                part.lines.retain(|l| l.name != *name);
                part.feeds.retain(|f| f.line != *name);
            }
            Entry::Feed(name) => {
                rows.extend(part.feeds.iter().filter(|f| f.name == *name).flat_map(|f| f.to.iter().map(|to| unopened(&f.title, &to.link))));
                part.feeds.retain(|f| f.name != *name);
            }
            Entry::Stave => return Err(error.into()),
        }
    }
    Ok(None)
}

/// The checklist as it fills, where somebody can see it.
async fn draw(mut progress: mpsc::Receiver<Vec<Row>>) {
    let mut block = Redraw::new();
    let colour = colours(block.is_live());
    while let Some(rows) = progress.recv().await {
        if progress.is_empty() {
            let open = rows.iter().filter(|r| !r.is_settled()).count();
            block.draw(|width| shown::grid(&rows, width, colour), &format!("{} of {} settled", rows.len() - open, rows.len()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::sheet::read_sheet;

    #[test]
    fn lines_are_chosen_by_name_and_feeds_follow() {
        let sheet = read_sheet(regatta::SHEET).0.expect("the demo");
        assert_eq!(chosen(&sheet, &[]).expect("all").len(), 8);
        let one = chosen(&sheet, &["umpire-launch".into()]).expect("one");
        let part = part(&sheet, &one);
        assert_eq!((part.lines.len(), part.feeds.len(), part.feeds[0].name.as_str()), (1, 1, "boathouse-3"));
        assert!(chosen(&sheet, &["umpire-lunch".into()]).is_err_and(|e| e.text.contains("umpire-launch")));
    }
}
