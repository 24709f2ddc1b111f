//! Arguments of `choir snap`.

use super::{duration, size};
use clap::Args as ClapArgs;
use std::{path::PathBuf, time::Duration};

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir snap finish-tower                        writes finish-tower.png
  choir snap finish-tower -o - | PROGRAM         PNG on standard output
  choir snap --all wall.png                      all lines on one picture, with names and states
  choir snap --all wall --every 10s --for 2h     a file each 10 s in the folder wall

Takes the newest keyframe, so it does not wait for one. Files of --every are called NAME-DATE-TIME.png, \
in UTC.

Exit codes: 0 written; 1 there is no picture; 2, 3 and 4 as for all commands.")]
pub struct SnapArgs {
    /// The line.
    #[arg(required_unless_present = "all", conflicts_with = "all")]
    pub line: Option<String>,
    /// Write to this file, or with --every into this folder; - is standard output [default:
    /// LINE.png, or the folder LINE].
    #[arg(short, long, value_name = "PATH", conflicts_with = "all")]
    pub output: Option<PathBuf>,
    /// All lines on one picture, in this file, or with --every in files of this folder.
    #[arg(long, value_name = "PATH")]
    pub all: Option<PathBuf>,
    /// Take one at this interval, like 10s, until Ctrl-C.
    #[arg(long, value_parser = duration, value_name = "TIME")]
    pub every: Option<Duration>,
    /// With --every: stop after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", requires = "every")]
    pub for_time: Option<Duration>,
    /// No larger than this [default: as it is].
    #[arg(long, value_parser = size, value_name = "WIDTHxHEIGHT", conflicts_with = "all")]
    pub size: Option<(u32, u32)>,
    /// The sheet of the show [default: the only one that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
}
