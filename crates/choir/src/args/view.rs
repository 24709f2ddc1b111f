//! Arguments of `choir view`.

use super::{duration, size};
use clap::Args as ClapArgs;
use std::{path::PathBuf, time::Duration};

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir view finish-tower                             a line of the running show
  choir view rtsp://desk@127.20.1.21/main             a source, without a show
  choir view finish-tower --frames pictures --for 10s ten pictures a second, as PNG files

Newest picture first, ten a second: what comes late is left out. The levels of the sound stand below it. \
Terminals that draw sixels show real pictures, others two pixels to a character. Left and right \
show the other lines, q leaves.

Exit codes: 0 shown; 1 nothing came; 2, 3 and 4 as for all commands.")]
pub struct ViewArgs {
    /// A line of a running show, a URL, or a file.
    #[arg(value_name = "LINE|URL")]
    pub what: String,
    /// Write pictures into this folder instead of showing them.
    #[arg(long, value_name = "FOLDER")]
    pub frames: Option<PathBuf>,
    /// With --frames: no larger than this [default: as it is].
    #[arg(long, value_parser = size, value_name = "WIDTHxHEIGHT", requires = "frames")]
    pub size: Option<(u32, u32)>,
    /// Stop after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
    /// The sheet of the show [default: the only one that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
}
