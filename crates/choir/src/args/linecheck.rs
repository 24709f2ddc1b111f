//! Arguments of `choir linecheck`.

use super::{duration, prefix, share};
use clap::Args as ClapArgs;
use std::{path::PathBuf, time::Duration};

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir linecheck                              the only sheet here, all lines and feeds
  choir linecheck regatta.toml umpire-launch   one line, and the feeds that start with it
  choir linecheck regatta.toml --in-turn --for 20s --html check.html
  choir linecheck --demo --html check.html

Starts the lines as \"choir run\" does, and stops them afterwards. A show that is already running \
is measured as it runs, without stills.

Exit codes: 0 nothing failed; 1 something failed, or it was stopped early; 2 and 4 as for all \
commands.")]
pub struct LinecheckArgs {
    /// The patch sheet [default: the only one in this folder], and names of lines [default: all].
    #[arg(value_name = "SHEET|LINE")]
    pub what: Vec<String>,
    /// How long to measure loss and headroom, from the first picture on.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", default_value = "8s")]
    pub for_time: Duration,
    /// How long to wait for a line's first picture.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "15s")]
    pub wait: Duration,
    /// Limit: time from joining to the first picture.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "5s")]
    pub first_picture: Duration,
    /// Limit: delay from the camera to here, beyond the link's latency.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "500ms")]
    pub delay: Duration,
    /// Limit: packets lost on the path, even if all are recovered.
    #[arg(long, value_parser = share, value_name = "SHARE", default_value = "5%")]
    pub loss: f64,
    /// Test the lines one after the other, not all at once.
    #[arg(long)]
    pub in_turn: bool,
    /// Write the result with the stills as an HTML page.
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
    /// Print the result as JSON.
    #[arg(long)]
    pub json: bool,
    /// Show no stills in the terminal.
    #[arg(long)]
    pub no_stills: bool,
    /// Test the Tarn Hollow Regatta, with its far ends on this machine.
    #[arg(long)]
    pub demo: bool,
    /// First two octets of the demo's addresses.
    #[arg(long, default_value = "127.20", value_parser = prefix, requires = "demo")]
    pub net: String,
}
