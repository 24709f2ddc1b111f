//! Arguments of `choir clip`.

use clap::{Args as ClapArgs, Subcommand};
use std::path::PathBuf;

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir clip add trailer.mp4 --sheet regatta.toml
  choir clip add trailer.mp4 --name opening --feed boathouse-1 --repeat
  choir clip check trailer.mp4

A clip is a transport stream or an MP4 file (in fragments or not) with H.264 or H.265, and AAC. It is \
read from its first to its last picture. As a line of the sheet it plays from its start at each take.

Exit codes: 0 it can be played; 1 it cannot; 5 it differs from what the feed carries; 2 and 4 as for all commands.")]
pub struct ClipArgs {
    #[command(subcommand)]
    pub action: ClipAction,
}

#[derive(Debug, Subcommand)]
pub enum ClipAction {
    /// Check a clip and write it into the sheet as a line.
    Add {
        /// The file.
        file: PathBuf,
        /// Name of the line [default: that of the file].
        #[arg(long)]
        name: Option<String>,
        /// A feed that it will be taken on: what differs from its line is told, and the sheet says
        /// that it will be.
        #[arg(long)]
        feed: Option<String>,
        /// It begins again at its end, until another line is taken.
        #[arg(long)]
        repeat: bool,
        /// The sheet [default: the only one in this folder, or $CHOIR_SHEET].
        #[arg(long, value_name = "SHEET")]
        sheet: Option<PathBuf>,
    },
    /// Say what is in a clip.
    Check {
        /// The file.
        file: PathBuf,
        /// Print as JSON.
        #[arg(long)]
        json: bool,
    },
}
