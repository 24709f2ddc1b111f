//! `choir demo`: the Tarn Hollow Regatta on this machine.

use super::run::{Presentation, closing, or_interrupted, present};
use crate::{
    args::DemoArgs,
    exit::{FAILED, Failure},
};
use choir_core::sheet::{Sheet, read_sheet};
use choir_host::Stop;
use choir_show::{Show, control};
use choir_sim::regatta::{self, PREFIX, SHEET};
use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

pub async fn run(args: DemoArgs) -> Result<(), Failure> {
    let mut sheet = sheet(&args.net)?;
    // A recording of the demo is nobody's: it goes with it.
    let recordings = tempfile::Builder::new().prefix("choir-demo-").tempdir();
    let recordings = recordings.map_err(|e| Failure::new(FAILED, format!("no folder for the demo's recording: {e}")))?;
    sheet.record.settings.folder = recordings.path().to_owned();
    let claim = control::claim(&claim_name(&args.net))?;
    eprintln!("The Tarn Hollow Regatta is getting ready: its devices encode their pictures.");
    let (stop_far, stop) = Stop::new();
    let far = or_interrupted(regatta::start(&args.net, &stop)).await??;
    let show = Show::start(&sheet, Path::new(".")).await?;
    show.set_reports(Arc::new(far.inputs()));
    show.set_stand_ins(Arc::new(far.outputs()));
    let how = Presentation { for_time: args.for_time, plain: false, json: args.json };
    let view = present(&show, claim, how, None).await?;
    stop_far.now();
    far.wait().await;
    closing(&view, args.json);
    // What rests until it is wanted need not have sent anything.
    let rests = |name: &str| sheet.line(name).is_some_and(|l| l.from.rests());
    let dead: Vec<&str> = view.lines.iter().filter(|l| l.link.packets == 0 && !rests(&l.name)).map(|l| l.name.as_str()).collect();
    if dead.is_empty() { Ok(()) } else { Err(Failure::new(FAILED, format!("nothing arrived on {}", dead.join(", ")))) }
}

/// The demo's sheet at these addresses. It names variables for its secrets; here they are filled
/// in, so that nothing need be set.
pub fn sheet(net: &str) -> Result<Sheet, Failure> {
    let text = SHEET.replace(PREFIX, net);
    let (sheet, findings) = read_sheet(&text);
    let mut sheet = sheet.ok_or_else(|| Failure::new(FAILED, format!("the demo's own sheet has errors: {findings:?}")))?;
    regatta::give_secrets(&mut sheet, net);
    Ok(sheet)
}

/// The demo has no file of its own to be known by.
pub fn claim_name(net: &str) -> PathBuf {
    let plain = net == PREFIX;
    PathBuf::from(if plain { "regatta-demo".to_owned() } else { format!("regatta-demo-{}", net.replace('.', "-")) })
}
