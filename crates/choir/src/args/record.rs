//! Arguments of `choir record`.

use super::duration;
use clap::{Args as ClapArgs, Subcommand};
use std::{path::PathBuf, time::Duration};

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir record start finish-tower boathouse-1          a line and a feed, into recordings/
  choir record start finish-tower --into /media/stick --each 5min
  choir record list
  choir record stop finish-tower
  choir record stop                                    all
  choir record check recordings
  choir record join recordings --only finish-tower -o finish-tower.mp4

Files are transport streams, named by line or feed and the time in UTC: \
finish-tower-20261129-141203.ts. Each begins with a keyframe; nothing is overwritten or deleted.")]
pub struct RecordArgs {
    #[command(subcommand)]
    pub action: RecordAction,
}

#[derive(Debug, Subcommand)]
pub enum RecordAction {
    /// Record lines or feeds of a running show.
    Start(StartArgs),
    /// End recordings.
    Stop {
        /// Lines and feeds [default: all that are recorded].
        what: Vec<String>,
        /// The sheet of the show [default: the only one that runs].
        #[arg(long, value_name = "SHEET")]
        sheet: Option<PathBuf>,
    },
    /// Show what is being recorded.
    List {
        /// The sheet of the show [default: the only one that runs].
        #[arg(long, value_name = "SHEET")]
        sheet: Option<PathBuf>,
        /// Print as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Make one MP4 file (in fragments) of the files of a recording.
    Join {
        /// Its files, or the folder that holds them.
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        /// The file to be made; one that is there is never overwritten.
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
        /// Only files of this line or feed, where the folder holds several.
        #[arg(long, value_name = "NAME")]
        only: Option<String>,
    },
    /// Say what is wrong with recordings that are there.
    Check {
        /// Files, or folders of them.
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        /// Print as JSON.
        #[arg(long)]
        json: bool,
    },
}

#[derive(Debug, ClapArgs)]
pub struct StartArgs {
    /// Lines and feeds.
    #[arg(required = true)]
    pub what: Vec<String>,
    /// Folder.
    #[arg(long, value_name = "FOLDER", default_value = "recordings")]
    pub into: PathBuf,
    /// A new file after so long, at the next keyframe.
    #[arg(long, value_name = "TIME", value_parser = duration, default_value = "10min")]
    pub each: Duration,
    /// Or after so many MB.
    #[arg(long, value_name = "MB")]
    pub size: Option<u64>,
    /// The sheet of the show [default: the only one that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
}
