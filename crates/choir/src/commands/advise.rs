//! `choir advise`: latency and overhead for a path whose numbers are known.

use super::{read_text, replace_text};
use crate::{
    args::{AdviseArgs, Target, WriteArgs},
    exit::{FAILED, Failure},
    output,
};
use choir_core::{
    advice::{Advice, PathFacts, advise},
    sheet::write_advice,
};

pub fn run(args: &AdviseArgs) -> Result<(), Failure> {
    let path = PathFacts { rtt: args.rtt, jitter: args.jitter, loss: args.loss, loss_back: args.loss_back, burst: args.burst.max(1.0) };
    let advice = advise(&path, args.bitrate, args.latency);
    if args.json {
        let document = serde_json::json!({ "path": path, "bitrate_bps": args.bitrate.0, "advice": advice });
        println!("{document:#}");
    } else {
        print!("{}", output::advice::text(&path, args.bitrate, &advice));
    }
    write(&args.write, &path, &advice)
}

/// Puts the advice for the chosen target into the sheet.
pub fn write(args: &WriteArgs, path: &PathFacts, advice: &Advice) -> Result<(), Failure> {
    let (Some(sheet), Some(line)) = (&args.write, &args.line) else { return Ok(()) };
    let n = match args.target {
        Target::Three => 0,
        Target::Four => 1,
        Target::Five => 2,
    };
    let setting = advice.settings.get(n).copied();
    let Some((setting, latency)) = setting.and_then(|s| Some((s, s.latency_ms?))) else {
        return Err(Failure::new(FAILED, "no latency repairs this path: nothing was written"));
    };
    let file = sheet.display();
    let after = write_advice(&read_text(sheet)?, line, path, latency, setting.overhead_percent)
        .map_err(|e| Failure::new(FAILED, format!("{file}: {e}; nothing was written")))?;
    replace_text(sheet, &after)?;
    eprintln!(
        "{file}: line \"{line}\" has latency {latency} ms and overhead {} %; the far end must have the same latency",
        setting.overhead_percent
    );
    Ok(())
}
