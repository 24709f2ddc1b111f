//! Arguments of `choir linecheck`.

use super::{duration, prefix, share};
use clap::Args as ClapArgs;
use std::{path::PathBuf, time::Duration};

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir linecheck                              the only sheet here, every line and feed side by side
  choir linecheck regatta.toml umpire-launch   one line, and the feeds that start with it
  choir linecheck regatta.toml --in-turn --for 20s --html check.html
  choir linecheck --demo --html check.html

It brings the lines up as \"choir run\" does, and ends them. A show that is running already is \
looked at as it runs, without stills.

Exit codes: 0 nothing failed; 1 something did, or it was ended early; 2 and 4 as for all commands.")]
pub struct LinecheckArgs {
    /// The patch sheet, not needed when only one lies here; and lines, by name. Without names, all.
    #[arg(value_name = "SHEET|LINE")]
    pub what: Vec<String>,
    /// How long to look at loss and headroom, once a picture is there.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", default_value = "8s")]
    pub for_time: Duration,
    /// How long to wait for a line's first picture.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "15s")]
    pub wait: Duration,
    /// Time from joining to the first picture.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "5s")]
    pub first_picture: Duration,
    /// Greatest delay from the camera to here, above the link's latency.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "500ms")]
    pub delay: Duration,
    /// Share lost on the way from which a line is doubtful, although all is repaired.
    #[arg(long, value_parser = share, value_name = "SHARE", default_value = "5%")]
    pub loss: f64,
    /// One line after the other instead of side by side.
    #[arg(long)]
    pub in_turn: bool,
    /// Write one page with the result and the stills, to be handed on.
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
    /// Print the result as JSON.
    #[arg(long)]
    pub json: bool,
    /// No stills in the terminal.
    #[arg(long)]
    pub no_stills: bool,
    /// Check the Tarn Hollow Regatta, with its far ends on this machine.
    #[arg(long)]
    pub demo: bool,
    /// First two octets of the demo's addresses.
    #[arg(long, default_value = "127.20", value_parser = prefix, requires = "demo")]
    pub net: String,
}
