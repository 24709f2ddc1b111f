//! Arguments of `choir compare`.

use super::duration;
use clap::Args as ClapArgs;
use std::{path::PathBuf, time::Duration};

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir compare rtsp://desk@127.20.1.21/main rtsp://desk@127.20.1.21/sub
  choir compare --sheet regatta.toml finish-tower finish-tower-sub --html which.html
  choir compare --sheet regatta.toml --pattern tarn address=127.20.1.21:8554

All are joined at the same time and looked at for the same time. With --pattern every address that \
[pattern.NAME] of the sheet allows is tried, sixteen at most; BLANK=VALUE fills blanks that are not to be tried.

Exit codes: 0 something came of each; 1 nothing came of one; 2 and 4 as for all commands.")]
pub struct CompareArgs {
    /// URLs, files, or lines of the sheet; with --pattern BLANK=VALUE.
    #[arg(value_name = "SOURCE", required_unless_present = "pattern")]
    pub sources: Vec<String>,
    /// A patch sheet: its lines and patterns can be named.
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
    /// Try the addresses of this pattern.
    #[arg(long, value_name = "NAME", requires = "sheet")]
    pub pattern: Option<String>,
    /// How long to look, from the first packet on.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", default_value = "5s")]
    pub for_time: Duration,
    /// How long to wait for the first packet.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "10s")]
    pub wait: Duration,
    /// Write a page with the pictures to this file.
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
    /// Print everything as JSON.
    #[arg(long)]
    pub json: bool,
}
