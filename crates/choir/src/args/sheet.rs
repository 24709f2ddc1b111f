//! Arguments of the commands that write, judge and hand out a patch sheet.

use super::{bitrate, duration, share, size};
use choir_core::units::Bitrate;
use clap::{Args as ClapArgs, Subcommand, ValueEnum};
use std::{net::IpAddr, path::PathBuf, time::Duration};

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir check demo/regatta.toml
  choir check regatta.toml --json

It judges both ends of every link, what the lines carry against what the feeds take, addresses, passphrases that can \
be read, and what each network carries. demo/mistakes/ shows one sheet per mistake.

Exit codes: 0 no errors; 1 errors; 2 the sheet cannot be read.")]
pub struct CheckArgs {
    /// The patch sheet; not needed when only one lies here.
    pub sheet: Option<PathBuf>,
    /// Print findings as JSON.
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir card umpire-launch --sheet regatta.toml
  choir card umpire-launch --reveal --markdown
  choir card --all --html cards.html        one page per card, to be printed or saved as PDF
  choir card --all --json

Exit codes: 0 printed; 1 the sheet has errors; 2 no such line, feed or device; 4 a file cannot be written.")]
pub struct CardArgs {
    /// Lines, feeds and devices, by name.
    #[arg(required_unless_present = "all")]
    pub names: Vec<String>,
    /// A card of everything in the sheet.
    #[arg(long, conflicts_with = "names")]
    pub all: bool,
    /// The patch sheet; not needed when only one lies here.
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
    /// Show passphrases and passwords, in the URL and its code too.
    #[arg(long)]
    pub reveal: bool,
    /// Write a page to be printed.
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
    /// Print Markdown, for a chat message.
    #[arg(long, conflicts_with_all = ["html", "json"])]
    pub markdown: bool,
    /// Print JSON.
    #[arg(long, conflicts_with = "html")]
    pub json: bool,
    /// Without the code to be scanned.
    #[arg(long)]
    pub no_code: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir budget regatta.toml
  choir budget regatta.toml --json

Exit codes: 0 all fits; 1 the sheet has errors; 5 a network carries more than it may.")]
pub struct BudgetArgs {
    /// The patch sheet; not needed when only one lies here.
    pub sheet: Option<PathBuf>,
    /// Print JSON.
    #[arg(long)]
    pub json: bool,
}

/// Where advice is written.
#[derive(Debug, Clone, ClapArgs)]
pub struct WriteArgs {
    /// Put the advised latency, the overhead and the path into this sheet.
    #[arg(long, value_name = "SHEET", requires = "line")]
    pub write: Option<PathBuf>,
    /// The line of the sheet.
    #[arg(long, value_name = "NAME")]
    pub line: Option<String>,
    /// Which advice is written: the share of packets delivered.
    #[arg(long, value_enum, value_name = "SHARE", default_value = "99.99")]
    pub target: Target,
}

/// Shares that advice is given for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Target {
    /// One packet in a thousand is lost.
    #[value(name = "99.9")]
    Three,
    /// One in ten thousand.
    #[value(name = "99.99")]
    Four,
    /// One in a hundred thousand.
    #[value(name = "99.999")]
    Five,
}

fn burst(text: &str) -> Result<f64, String> {
    text.parse().ok().filter(|b| (1.0..=1000.0).contains(b)).ok_or_else(|| "a number of packets in a row, 1 to 1000".into())
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir advise --rtt 80ms --loss 2% --burst 3 --bitrate 8Mbps
  choir advise --rtt 80ms --loss 2% --latency 120ms
  choir advise --rtt 80ms --loss 2% --write regatta.toml --line umpire-launch

The advice comes from a model of repeat-on-request that is tested against the engine itself; docs/advice.md states it. \
choir path measures the numbers.")]
pub struct AdviseArgs {
    /// Round-trip time, like 80ms.
    #[arg(long, value_parser = duration, value_name = "TIME")]
    pub rtt: Duration,
    /// Share of packets lost, like 2%.
    #[arg(long, value_parser = share, value_name = "SHARE", default_value = "0%")]
    pub loss: f64,
    /// Share lost on the way back, where it differs.
    #[arg(long, value_parser = share, value_name = "SHARE")]
    pub loss_back: Option<f64>,
    /// Packets lost in a row, on average.
    #[arg(long, value_parser = burst, value_name = "PACKETS", default_value = "1")]
    pub burst: f64,
    /// Variation of the one-way delay.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "0ms")]
    pub jitter: Duration,
    /// Bitrate of the line.
    #[arg(long, value_parser = bitrate, value_name = "RATE", default_value = "8Mbps")]
    pub bitrate: Bitrate,
    /// The latency in use: what it will lose is told.
    #[arg(long, value_parser = duration, value_name = "TIME")]
    pub latency: Option<Duration>,
    #[command(flatten)]
    pub write: WriteArgs,
    /// Print JSON.
    #[arg(long)]
    pub json: bool,
}

/// How cameras arrive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Arrive {
    /// Pulled from cameras on site.
    Rtsp,
    /// They call this machine.
    SrtListener,
    /// This machine calls them.
    SrtCaller,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir new regatta.toml                                 asks
  choir new regatta.toml --name 'Tarn Hollow Regatta' --network 127.20.0.0/24 --address 127.20.0.1 --cameras 4 --arrive rtsp
  choir find 127.20.0.0/27 --json | choir new regatta.toml --from-found - --name 'Tarn Hollow Regatta' --address 127.20.0.1

Exit codes: 0 written; 2 the file is there already, or an answer is missing; 4 it cannot be written.")]
pub struct NewArgs {
    /// The file to write.
    pub file: PathBuf,
    /// Name of the show.
    #[arg(long)]
    pub name: Option<String>,
    /// The network of the site, like 127.20.0.0/24.
    #[arg(long, value_name = "RANGE")]
    pub network: Option<String>,
    /// This machine's address on it.
    #[arg(long, value_name = "IP")]
    pub address: Option<IpAddr>,
    /// How many cameras.
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..=64))]
    pub cameras: Option<u16>,
    /// How they arrive.
    #[arg(long, value_enum)]
    pub arrive: Option<Arrive>,
    /// Frame rate of the show.
    #[arg(long, value_parser = clap::value_parser!(u32).range(1..=120))]
    pub rate: Option<u32>,
    /// What "choir find --json" printed: a file, or - for standard input.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["cameras", "arrive"])]
    pub from_found: Option<PathBuf>,
}

/// The sheet to edit.
#[derive(Debug, Clone, ClapArgs)]
pub struct EditSheet {
    /// The patch sheet; not needed when only one lies here.
    #[arg(long, value_name = "SHEET", global = true)]
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir line add umpire-launch 'srt://:7103?latency=300' --title \"Umpire's launch\" --codec h265 --bitrate 3.5Mbps
  choir line rename umpire-launch launch       in feeds and devices too
  choir line remove launch

Comments and order of the sheet stay as they are.")]
pub struct LineEditArgs {
    #[command(flatten)]
    pub sheet: EditSheet,
    #[command(subcommand)]
    pub action: LineEdit,
}

#[derive(Debug, Subcommand)]
pub enum LineEdit {
    /// Add a line at the end of the lines.
    Add(AddLine),
    /// Remove a line that nothing uses.
    Remove {
        /// The line.
        name: String,
    },
    /// Give a line another name, wherever it is used.
    Rename {
        /// The line.
        name: String,
        /// Its new name.
        to: String,
    },
}

#[derive(Debug, ClapArgs)]
pub struct AddLine {
    /// Its name.
    pub name: String,
    /// Where it comes from: any FROM of choir link. A passphrase by passphrase-env or passphrase-file.
    pub from: String,
    /// For people.
    #[arg(long)]
    pub title: Option<String>,
    /// What is expected: h264 or h265.
    #[arg(long, value_parser = ["h264", "h265"])]
    pub codec: Option<String>,
    /// Picture size, like 1280x720.
    #[arg(long, value_parser = size)]
    pub size: Option<(u32, u32)>,
    /// Frames per second.
    #[arg(long)]
    pub rate: Option<f64>,
    /// Bitrate, like 6Mbps.
    #[arg(long, value_parser = bitrate)]
    pub bitrate: Option<Bitrate>,
    /// A network that it crosses; may be given several times.
    #[arg(long, value_name = "NETWORK")]
    pub via: Vec<String>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir feed add boathouse-5 umpire-launch 'srt://127.20.0.31:7205' --takes finish-tower
  choir feed rename boathouse-5 reserve
  choir feed remove reserve

Comments and order of the sheet stay as they are.")]
pub struct FeedEditArgs {
    #[command(flatten)]
    pub sheet: EditSheet,
    #[command(subcommand)]
    pub action: FeedEdit,
}

#[derive(Debug, Subcommand)]
pub enum FeedEdit {
    /// Add a feed at the end of the feeds.
    Add(AddFeed),
    /// Remove a feed.
    Remove {
        /// The feed.
        name: String,
    },
    /// Give a feed another name.
    Rename {
        /// The feed.
        name: String,
        /// Its new name.
        to: String,
    },
}

#[derive(Debug, ClapArgs)]
pub struct AddFeed {
    /// Its name.
    pub name: String,
    /// The line that it carries at the start.
    pub line: String,
    /// Where it goes: any TO of choir link; several are sent the same.
    #[arg(required = true)]
    pub to: Vec<String>,
    /// For people.
    #[arg(long)]
    pub title: Option<String>,
    /// Another line that will be taken on it; may be given several times.
    #[arg(long, value_name = "LINE")]
    pub takes: Vec<String>,
}
