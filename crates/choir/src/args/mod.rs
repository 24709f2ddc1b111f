//! The command line, as plain data.

mod clip;
mod compare;
mod device;
mod linecheck;
mod path;
mod record;
mod rota;
mod sheet;
mod snap;
mod stave;
mod view;

pub use clip::{ClipAction, ClipArgs};
pub use compare::CompareArgs;
pub use device::{AddressArgs, Device, DeviceArgs, FindArgs, FrameArgs, MoveArgs, PtzAction, PtzArgs, SimDeviceArgs};

pub use linecheck::LinecheckArgs;
pub use path::{PathMeasureArgs, Towards};
pub use record::{RecordAction, RecordArgs, StartArgs};
pub use rota::{RotaAction, RotaArgs};
pub use sheet::{
    AddFeed, AddLine, AdviseArgs, Arrive, BudgetArgs, CardArgs, CheckArgs, FeedEdit, FeedEditArgs, LineEdit, LineEditArgs, NewArgs, Target,
    WriteArgs,
};
pub use snap::SnapArgs;
pub use stave::{DirectoryArgs, LanArgs, LanFlags, ListArgs, Stave, StaveArgs};

pub use view::ViewArgs;

use choir_core::units::{Bitrate, parse_bitrate, parse_duration, parse_share, parse_size};
use choir_path::{Faults, Outage};
use choir_sim::{
    camera::{Manner, Output},
    regatta::PATH_WORDS,
};
use clap::{Args as ClapArgs, Parser, Subcommand};
use clap_complete::Shell;
use std::{net::SocketAddr, path::PathBuf, time::Duration};

const EXIT_CODES: &str = "Exit codes: 0 done; 1 it ran, but nothing arrived or the sheet has errors; 2 wrong command line; 3 no such show is running, it is running already, or it refused; \
4 a port, file, name or passphrase is not available; 5 something differs from the sheet, or does not fit.";

/// Connect cameras, encoders and field units to switching software, and keep them on air.
#[derive(Debug, Parser)]
#[command(name = "choir", version, after_help = EXIT_CODES, propagate_version = true)]
pub struct Args {
    /// Log more on stderr; -vv and -vvv log even more.
    #[arg(short, long, action = clap::ArgAction::Count, global = true, display_order = 900)]
    pub verbose: u8,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run the Tarn Hollow Regatta on this machine: cameras, bad paths, a switcher.
    Demo(DemoArgs),
    /// Carry one link between two ends, without a patch sheet.
    Link(LinkArgs),
    /// Find devices by announcements, by multicast and address by address.
    Find(FindArgs),
    /// Show, compare, set, readdress and restart the sheet's devices.
    Device(DeviceArgs),
    /// Steer a camera: presets, moves, a live panel.
    Ptz(PtzArgs),
    /// List the names on the LAN, or run a directory for them.
    Stave(StaveArgs),
    /// Join a source for a few seconds and report what it sends.
    Inspect(InspectArgs),
    /// Look at several sources at the same time, side by side.
    Compare(CompareArgs),
    /// Check a patch sheet for mistakes, without using the network.
    Check(CheckArgs),
    /// Write a new patch sheet from a few answers, or from the devices found.
    New(NewArgs),
    /// Add, remove or rename a line of a patch sheet.
    Line(LineEditArgs),
    /// Add, remove or rename a feed of a patch sheet.
    Feed(FeedEditArgs),
    /// Check a clip, and add it to a patch sheet.
    Clip(ClipArgs),
    /// Print what to type into the device at the other end, field by field.
    Card(CardArgs),
    /// Add up the load of each network, and say what to change if it is too high.
    Budget(BudgetArgs),
    /// Advise latency and overhead for a path.
    Advise(AdviseArgs),
    /// Measure the path to another Cable Choir, and advise latency and overhead for it.
    Path(PathMeasureArgs),
    /// Find out how many links this machine carries.
    ///
    /// Each link comes in by SRT, is metered as a line, and goes out as a feed by SRT. The far ends
    /// run here as well, on loopback: nothing leaves this machine. Takes a minute or two.
    Bench(BenchArgs),
    /// Test every line and feed before the show.
    Linecheck(LinecheckArgs),
    /// Start everything in a patch sheet and keep it up.
    Run(RunArgs),
    /// Show the state of a running show.
    Status(StatusArgs),
    /// Watch a running show in the live view.
    Watch(ShowArgs),
    /// Watch one source move, in the terminal.
    View(ViewArgs),
    /// Write pictures of a running show to files.
    Snap(SnapArgs),
    /// Say which line comes next on a feed.
    Next(NextArgs),
    /// Put another line on a feed, at that line's next keyframe.
    Take(TakeArgs),
    /// Show one line alone on a wall of pictures, or all of its lines again.
    Wall(WallArgs),
    /// Show rotas, and start, pause, skip or stop one.
    Rota(RotaArgs),
    /// Record lines and feeds; say what is wrong with recordings.
    Record(RecordArgs),
    /// Stop a line, or the ways out of a feed, until released.
    Hold(HoldArgs),
    /// Start again what is held.
    Release(HoldArgs),
    /// Say that alarms of a running show have been seen; without names, list them.
    Ack(AckArgs),
    /// Apply what has changed in the sheet of a running show.
    Reload(ShowArgs),
    /// Stop a running show.
    Stop(ShowArgs),
    /// Run a stand-in to rehearse against: camera, field unit, device, switcher, path.
    Sim(Box<SimArgs>),
    /// Print completions for a shell.
    Completions {
        /// The shell.
        shell: Shell,
    },
}

fn duration(text: &str) -> Result<Duration, String> {
    parse_duration(text).map_err(|e| e.to_string())
}
fn bitrate(text: &str) -> Result<Bitrate, String> {
    parse_bitrate(text).map_err(|e| e.to_string())
}
fn share(text: &str) -> Result<f64, String> {
    parse_share(text).map_err(|e| e.to_string())
}
fn size(text: &str) -> Result<(u32, u32), String> {
    parse_size(text).map_err(|e| e.to_string())
}
fn outage(text: &str) -> Result<Outage, String> {
    let (lasts, every) = text.split_once('@').ok_or("write LENGTH@EVERY, like 2s@30s")?;
    let outage = Outage { lasts: duration(lasts)?, every: duration(every)? };
    if outage.lasts >= outage.every {
        return Err("an outage must be shorter than the time from one to the next".into());
    }
    Ok(outage)
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:\n  choir demo\n  choir demo --for 20s\n  choir demo --for 20s --json")]
pub struct DemoArgs {
    /// Stop after this time, like 20s.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
    /// At the end, print one JSON document.
    #[arg(long)]
    pub json: bool,
    /// First two octets of all addresses; another demo needs other ones.
    #[arg(long, default_value = "127.20", value_parser = prefix)]
    pub net: String,
}

fn prefix(text: &str) -> Result<String, String> {
    match text.strip_prefix("127.").and_then(|n| n.parse::<u8>().ok()) {
        Some(n) => Ok(format!("127.{n}.")),
        None => Err("must be 127.N with N from 0 to 255: the demo never leaves this machine".into()),
    }
}

fn manner(word: &str) -> Result<Manner, String> {
    let words: Vec<&str> = Manner::ALL.iter().map(|(w, _)| *w).collect();
    Manner::from_word(word).ok_or_else(|| choir_core::spelling::did_you_mean(word, &words))
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "FROM and TO are each one of:
  srt://HOST:PORT?mode=caller|listener|rendezvous&latency=MS&pbkeylen=16|24|32&streamid=ID
      listens if there is no host; bind=IP[:PORT] sets the local address; overhead=25% or
      ceiling=12Mbps limits the sender; passphrase by passphrase-env=NAME,
      passphrase-file=PATH or passphrase=TEXT
  rtsp://[USER@]HOST[:PORT]/PATH?QUERY
      FROM: pull from a camera (port 554); TO: serve at rtsp://:PORT/NAME (port 8554);
      settings go behind a #: password-env=NAME or password-file=PATH,
      transport=auto|udp|tcp|multicast, reorder=MS, damaged=wait|pass, interface=ADDRESS;
      group=ADDRESS:PORT and ttl=N also serve by multicast
  rtp://HOST:PORT       transport stream in RTP; sdp=FILE: the formats of that session description
  stave://[MACHINE/]NAME
      FROM: a name on the LAN; ?grade=intra|long-gop|sub, patience=MS,
      carriage=streams|multicast; TO: offer it by that name
  udp://HOST:PORT       transport stream in datagrams of seven packets; FROM: HOST is the local
      address; multicast: udp://[SOURCE@]GROUP:PORT?interface=ADDRESS&ttl=N
  FILE.ts               FROM: played at the pace of its clock; ?repeat loops it
  -                     standard input or output

Examples:
  choir link 'srt://:7001?latency=200' udp://127.0.0.1:5004
  choir link clip.ts?repeat 'srt://127.0.0.1:7001?streamid=finish' --for 1min --json
  choir link 'srt://127.0.0.1:7001' - > take.ts
  choir link 'rtsp://desk@127.0.0.1/main#password-env=CAMERA' 'srt://127.0.0.1:7001'
  choir link 'srt://:7001' rtsp://127.0.0.1:8554/finish
  choir link 'srt://:7001' 'stave://Towpath Bicycle' --key-env REGATTA_LAN")]
pub struct LinkArgs {
    /// Where the media comes from; see below.
    pub from: String,
    /// Where the media goes; see below.
    pub to: String,
    /// Stop after this time, like 30s.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
    /// At the end, print the counters of both ends as one JSON object (the last line).
    #[arg(long)]
    pub json: bool,
    /// Print a JSON object at this interval, like 1s.
    #[arg(long, value_parser = duration, value_name = "TIME")]
    pub every: Option<Duration>,
    #[command(flatten)]
    pub lan: LanArgs,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir inspect rtsp://127.0.0.1:8554/main
  choir inspect udp://239.20.0.5:5004?interface=127.0.0.1 --for 10s --json
  choir inspect --sheet regatta.toml --line finish-tower
  choir inspect --sheet regatta.toml --pattern tarn address=127.20.1.21:8554    as choir compare does
  choir inspect 'stave://Finish Tower' --on 10.1.2.7 --key-env REGATTA_LAN

Exit codes: 0 as the line expects it; 1 nothing arrived; 5 it differs from what the line expects; \
2 and 4 as for all commands.")]
pub struct InspectArgs {
    /// Any FROM of choir link [default: that of the line]; with --pattern BLANK=VALUE.
    #[arg(value_name = "URL", required_unless_present_any = ["line", "pattern"])]
    pub url: Vec<String>,
    /// How long to measure, from the first packet on.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", default_value = "5s")]
    pub for_time: Duration,
    /// How long to wait for the first packet.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "10s")]
    pub wait: Duration,
    /// Print everything as JSON.
    #[arg(long)]
    pub json: bool,
    /// A patch sheet; its line says what is expected, its patterns what is to be tried.
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
    /// The line of the sheet.
    #[arg(long, value_name = "NAME", requires = "sheet")]
    pub line: Option<String>,
    /// Try every address that this pattern of the sheet allows, and compare what comes.
    #[arg(long, value_name = "NAME", requires = "sheet", conflicts_with = "line")]
    pub pattern: Option<String>,
    #[command(flatten)]
    pub lan: LanFlags,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir bench                              8 Mbps at 120 ms, AES-128
  choir bench --rate 20Mbps --key 256 --json
  choir bench --links 60 --for 30s         only this many, and longer

Exit codes: 0 some number of links was carried; 1 none was; 2 and 4 as for all commands.")]
pub struct BenchArgs {
    /// Of each link.
    #[arg(long, value_parser = bitrate, default_value = "8Mbps")]
    pub rate: Bitrate,
    /// Of each link, in and out.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "120ms")]
    pub latency: Duration,
    /// Length of the AES keys in bits; 0 sends in the clear.
    #[arg(long, value_name = "BITS", default_value_t = 128, value_parser = key_bits)]
    pub key: u16,
    /// Try only this many links.
    #[arg(long, value_name = "COUNT", value_parser = links)]
    pub links: Option<usize>,
    /// Try no more links than this.
    #[arg(long, value_name = "COUNT", default_value_t = 400, value_parser = links, conflicts_with = "links")]
    pub most: usize,
    /// How long each number of links is measured.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", default_value = "3s")]
    pub for_time: Duration,
    /// Print the answer as JSON.
    #[arg(long)]
    pub json: bool,
}

fn key_bits(text: &str) -> Result<u16, String> {
    text.parse().ok().filter(|bits| matches!(bits, 0 | 128 | 192 | 256)).ok_or_else(|| "128, 192, 256, or 0 for none".into())
}

fn links(text: &str) -> Result<usize, String> {
    text.parse().ok().filter(|n| (1..=2000).contains(n)).ok_or_else(|| "a number from 1 to 2000".into())
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:\n  choir run regatta.toml\n  choir run regatta.toml --watch-sheet")]
pub struct RunArgs {
    /// The patch sheet.
    pub sheet: PathBuf,
    /// Stop after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
    /// Apply what has changed at every save of the sheet. A sheet with errors changes nothing.
    #[arg(long)]
    pub watch_sheet: bool,
    /// Print events as lines, even on a terminal.
    #[arg(long)]
    pub plain: bool,
    /// At the end, print one JSON document.
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct ShowArgs {
    /// The sheet of the show [default: the only one that runs].
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
#[command(
    after_help = "Examples:\n  choir status\n  choir status finish-tower        all that is known of one line, or of one feed\n  choir status regatta.toml --json\n  choir status -v                  also the threads that serve SRT links: their load, and how late packets leave"
)]
pub struct StatusArgs {
    /// A line or feed to show alone, or the sheet of the show (a file).
    #[arg(value_name = "NAME|SHEET")]
    pub what: Option<String>,
    /// The sheet of the show [default: the only one that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
    /// Print everything as JSON.
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Example:\n  choir next boathouse-1 start-pontoon\n  choir take boathouse-1")]
pub struct NextArgs {
    /// The feed.
    pub feed: String,
    /// The line that comes next.
    pub line: String,
    /// The sheet of the show [default: the only one that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir take boathouse-1 start-pontoon
  choir take boathouse-1                 what comes next; what is on comes next then
  choir take boathouse-1=start-pontoon boathouse-2=finish-tower    both at the same moment

Takes at the same moment wait until each of the lines has sent a keyframe, 3 s at most; a feed whose \
line sent its own earlier stays behind that line by the difference. \
A take ends what stands in for a line that has failed.")]
pub struct TakeArgs {
    /// The feed, and the line to put on it [default: the one that comes next]; or several
    /// FEED=LINE.
    #[arg(required = true, value_name = "FEED [LINE]|FEED=LINE")]
    pub what: Vec<String>,
    /// The sheet of the show [default: the only one that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir wall                          the walls of the show, and what they show
  choir wall truck finish-tower       that line alone
  choir wall truck                    all its lines

A wall is a line of the sheet: [[line]] name = \"truck\", from = \"wall://3x3\". Feeds carry it like \
any other.")]
pub struct WallArgs {
    /// The wall.
    pub wall: Option<String>,
    /// The line to show alone [default: all].
    pub line: Option<String>,
    /// The sheet of the show [default: the only one that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
    /// Print the walls as JSON.
    #[arg(long, conflicts_with = "wall")]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir hold start-pontoon
  choir hold boathouse-1       all its ways out
  choir hold boathouse-1:2     the second of them, as the sheet has them")]
pub struct HoldArgs {
    /// A line, a feed, or one of a feed's ways out (NAME:NUMBER).
    pub what: String,
    /// The sheet of the show [default: the only one that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir ack                    list the alarms
  choir ack 3                  alarm 3 has been seen
  choir ack finish-tower       all alarms of that line, feed or network, and those it is part of
  choir ack --all

An alarm that has been seen stays until its trouble is over, and calls nobody unless it gets worse.
One whose trouble is over stays until it has been seen.")]
pub struct AckArgs {
    /// Numbers of alarms, or names of lines, feeds and networks.
    #[arg(value_name = "NUMBER|NAME", conflicts_with = "all")]
    pub what: Vec<String>,
    /// All alarms.
    #[arg(long)]
    pub all: bool,
    /// The sheet of the show [default: the only one that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
    /// List the alarms as JSON.
    #[arg(long, conflicts_with_all = ["what", "all"])]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct SimArgs {
    #[command(subcommand)]
    pub what: Sim,
}

#[derive(Debug, Subcommand)]
pub enum Sim {
    /// Camera: a moving scene in H.264 with the time in each frame.
    Camera(CameraArgs),
    /// Field unit: a camera with the settings of a moving one (640x360, 2.5 Mbps, 400 ms).
    FieldUnit(CameraArgs),
    /// Device with control: ONVIF, VISCA, discovery, and streams that follow their settings.
    Device(SimDeviceArgs),
    /// Switcher: inputs that measure what reaches them.
    Switcher(SwitcherArgs),
    /// Platform: takes a feed by RTMP, or refuses it, and keeps its last picture.
    Platform(Box<PlatformArgs>),
    /// Bad network path: a two-way UDP relay with faults.
    Path(Box<PathArgs>),
    /// Change what a camera of the running demo shows: black, frozen, silent ...
    Show(SimShowArgs),
}

#[derive(Debug, ClapArgs)]
#[command(after_help = SHOW_HELP)]
pub struct SimShowArgs {
    /// The line whose camera is changed.
    pub line: String,
    /// What it shows from now on; see below.
    #[arg(required = true, value_parser = shown)]
    pub words: Vec<String>,
    /// Name of the demo [default: the only show that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
}

const SHOW_HELP: &str = "Examples:
  choir sim show start-pontoon frozen
  choir sim show towpath-bicycle black silent
  choir sim show umpire-launch path-worse
  choir sim show start-pontoon normal

Words:
  normal                            the scene with its sound
  scene, black, bars, frozen        picture
  tone, tone:-30, silent            sound: at -18 dBFS, at another level from 0 to -60, none
  left-only, right-only, swapped,
  stereo, out-of-phase, clipped     sound: channels
  late:1500ms, in-time              sound behind its picture
  path-worse                        the path carries less and less for half a minute, then too little
  path-full, path-cut, path-normal  the path carries too little, nothing, all; not for every line

A camera in H.265 can only show its scene or be frozen.";

fn shown(word: &str) -> Result<String, String> {
    if PATH_WORDS.contains(&word) {
        return Ok(word.to_owned());
    }
    Output::default().after(word).map(|_| word.to_owned()).map_err(|e| e.to_string())
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir sim camera --to 'srt://127.0.0.1:7101?mode=caller' --size 1280x720 --bitrate 6Mbps
  choir sim camera --serve 127.0.0.1:8554 --sub 320x180
  choir sim camera --stave 'Winners Dock' --on 127.20.0.41 --intra 100Mbps --sub 320x180
  choir sim camera --serve 127.0.0.1:8554 --user desk --password-env SECRET --manner silent-udp

Manners, each something that real cameras do wrong or differently: no-control, absolute-control, wrong-base, no-base, proof-at-setup, \
old-nonces, many-proofs, restarts, no-reports, lying-markers, no-markers, sets-in-description, sets-in-band, \
wrong-profile, metadata-track, no-udp, silent-udp, odd-headers, redirects, no-get-parameter, short-sessions, \
latm, takes-requests.")]
pub struct CameraArgs {
    /// Where to send: any TO of choir link.
    #[arg(long, required_unless_present_any = ["serve", "stave"])]
    pub to: Option<String>,
    /// Offer itself by this name on the LAN, with a head that can be steered by name.
    #[arg(long, value_name = "NAME", conflicts_with_all = ["serve", "to"])]
    pub stave: Option<String>,
    /// With --stave: also an all-intra stream of this bitrate.
    #[arg(long, value_parser = bitrate, value_name = "RATE", requires = "stave")]
    pub intra: Option<Bitrate>,
    /// With --intra: channels of PCM sound.
    #[arg(long, value_name = "COUNT", default_value_t = 2, value_parser = clap::value_parser!(u8).range(1..=16))]
    pub channels: u8,
    /// Serve RTSP at this address: /main, and /sub with --sub.
    #[arg(long, value_name = "IP:PORT", conflicts_with = "to")]
    pub serve: Option<SocketAddr>,
    /// Size of the sub stream, like 320x180.
    #[arg(long, value_parser = size)]
    pub sub: Option<(u32, u32)>,
    /// Require this user to log in.
    #[arg(long, requires_all = ["serve", "password_env"])]
    pub user: Option<String>,
    /// Environment variable with the user's password.
    #[arg(long, value_name = "NAME", requires = "user")]
    pub password_env: Option<String>,
    /// Also serve by multicast, to a group like 239.20.0.11:6000.
    #[arg(long, value_name = "IP:PORT", requires = "serve")]
    pub group: Option<SocketAddr>,
    /// A manner from the list below; repeatable.
    #[arg(long, value_parser = manner, requires = "serve")]
    pub manner: Vec<Manner>,
    /// Send the built-in H.265 loop (960x540, 25 fps) instead of a drawn scene.
    #[arg(long, conflicts_with_all = ["size", "rate", "bitrate"])]
    pub h265: bool,
    /// Name shown in the picture.
    #[arg(long, default_value = "camera")]
    pub name: String,
    /// Picture size, like 1280x720.
    #[arg(long, value_parser = size)]
    pub size: Option<(u32, u32)>,
    /// Frames per second, 1 to 120.
    #[arg(long, value_parser = clap::value_parser!(u32).range(1..=120))]
    pub rate: Option<u32>,
    /// Bitrate of the whole stream, like 6Mbps.
    #[arg(long, value_parser = bitrate)]
    pub bitrate: Option<Bitrate>,
    /// Variable bitrate, without null packets.
    #[arg(long)]
    pub variable: bool,
    /// Keyframe interval, seconds.
    #[arg(long, default_value_t = 1.0)]
    pub keyframe: f64,
    /// Send no sound.
    #[arg(long)]
    pub mute: bool,
    /// Show or sound like this: a word of choir sim show; repeatable.
    #[arg(long, value_name = "WORD", value_parser = shown)]
    pub show: Vec<String>,
    /// Take such words from standard input while it runs.
    #[arg(long)]
    pub typed: bool,
    #[command(flatten)]
    pub lan: LanArgs,
    /// Stop after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir sim switcher 'srt://:7201?latency=60' udp://127.0.0.1:7202
  choir sim switcher 'stave://Finish Tower' 'stave://Towpath Bicycle' --on 127.20.0.40 --desk
  choir sim switcher 'stave://Finish Tower' 'stave://Start Pontoon' --sheet regatta.toml --cycle 5s

Named sources get tally: on air, or next.")]
pub struct SwitcherArgs {
    /// One input each: any FROM of choir link, or stave://NAME.
    #[arg(required = true)]
    pub inputs: Vec<String>,
    /// Type numbers to switch: the input on air, and optionally the next one; 0 is none.
    #[arg(long, conflicts_with = "cycle")]
    pub desk: bool,
    /// Put the inputs on air in turn, each for this time.
    #[arg(long, value_parser = duration, value_name = "TIME")]
    pub cycle: Option<Duration>,
    #[command(flatten)]
    pub lan: LanArgs,
    /// Stop after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
    /// At the end, print the measurements as JSON.
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir sim platform --in 127.0.0.1:1936 --takes live/KEY --still got.png
  choir sim platform --in 127.0.0.1:1936 --takes live/KEY --user desk --password-env SECRET
  choir sim platform --in 127.0.0.1:1936 --takes live/KEY --reads 1Mbps")]
pub struct PlatformArgs {
    /// Address to listen at.
    #[arg(long = "in", value_name = "IP:PORT")]
    pub listen: SocketAddr,
    /// Path and stream key that it takes.
    #[arg(long, value_name = "PATH/KEY")]
    pub takes: String,
    /// Ask for this user, and a password.
    #[arg(long, requires = "password_env")]
    pub user: Option<String>,
    /// Environment variable with the user's password.
    #[arg(long, value_name = "NAME", requires = "user")]
    pub password_env: Option<String>,
    /// Read no more than this.
    #[arg(long, value_name = "RATE", value_parser = bitrate)]
    pub reads: Option<Bitrate>,
    /// Refuse every call with these words.
    #[arg(long, value_name = "WORDS")]
    pub refuses: Option<String>,
    /// Close each connection after this time.
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub closes: Option<Duration>,
    /// Send every call to this address.
    #[arg(long, value_name = "URL")]
    pub elsewhere: Option<String>,
    /// Write the last picture there, once a second.
    #[arg(long, value_name = "FILE.png")]
    pub still: Option<PathBuf>,
    /// At the end, print what it got as JSON.
    #[arg(long)]
    pub json: bool,
    /// Stop after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Example:
  choir sim path --in 127.0.0.1:7001 --out 127.0.0.1:7002 --delay 40ms --loss 1% --burst 3 \\
      --rate 20Mbps --queue 100ms --outage 2s@30s --seed 7

A fault applies to both directions; --back-FAULT sets it for OUT to IN only.")]
pub struct PathArgs {
    /// Address to receive on.
    #[arg(long = "in", value_name = "IP:PORT")]
    pub listen: SocketAddr,
    /// Address to forward to.
    #[arg(long = "out", value_name = "IP:PORT")]
    pub to: SocketAddr,
    /// Local address towards OUT.
    #[arg(long, value_name = "IP:PORT")]
    pub from: Option<SocketAddr>,
    /// The sender's address, if OUT speaks first [default: whoever sent last].
    #[arg(long, value_name = "IP:PORT")]
    pub client: Option<SocketAddr>,
    #[command(flatten)]
    pub both: FaultArgs,
    #[command(flatten)]
    pub back: BackFaultArgs,
    /// Seed of the random faults; the same seed repeats them.
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    /// Stop after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
}

macro_rules! fault_args {
    ($name:ident, $($prefix:literal)?, $heading:literal) => {
        #[derive(Debug, Clone, ClapArgs)]
        #[group(id = $heading)]
        #[command(next_help_heading = $heading)]
        pub struct $name {
            /// One-way delay, like 40ms.
            #[arg(id = concat!($($prefix,)? "delay"), long = concat!($($prefix,)? "delay"), value_parser = duration, value_name = "TIME")]
            delay: Option<Duration>,
            /// Up to this much more delay; packets stay in order.
            #[arg(id = concat!($($prefix,)? "jitter"), long = concat!($($prefix,)? "jitter"), value_parser = duration, value_name = "TIME")]
            jitter: Option<Duration>,
            /// Share of packets lost, like 1%.
            #[arg(id = concat!($($prefix,)? "loss"), long = concat!($($prefix,)? "loss"), value_parser = share, value_name = "PERCENT")]
            loss: Option<f64>,
            /// Mean number of packets lost in a row (Gilbert-Elliott).
            #[arg(id = concat!($($prefix,)? "burst"), long = concat!($($prefix,)? "burst"), value_name = "PACKETS")]
            burst: Option<f64>,
            /// Share of packets overtaken by later ones.
            #[arg(id = concat!($($prefix,)? "reorder"), long = concat!($($prefix,)? "reorder"), value_parser = share, value_name = "PERCENT")]
            reorder: Option<f64>,
            /// Share of packets that arrive twice.
            #[arg(id = concat!($($prefix,)? "duplicate"), long = concat!($($prefix,)? "duplicate"), value_parser = share, value_name = "PERCENT")]
            duplicate: Option<f64>,
            /// Rate limit, headers included, like 20Mbps.
            #[arg(id = concat!($($prefix,)? "rate"), long = concat!($($prefix,)? "rate"), value_parser = bitrate, value_name = "BITRATE")]
            rate: Option<Bitrate>,
            /// Longest queue at the rate limit; the rest is dropped [default: 100ms].
            #[arg(id = concat!($($prefix,)? "queue"), long = concat!($($prefix,)? "queue"), value_parser = duration, value_name = "TIME")]
            queue: Option<Duration>,
            /// Outages, LENGTH@EVERY, like 2s@30s.
            #[arg(id = concat!($($prefix,)? "outage"), long = concat!($($prefix,)? "outage"), value_parser = outage, value_name = "TIME@TIME")]
            outage: Option<Outage>,
        }

        impl $name {
            /// These faults where given, else those of `base`.
            pub fn over(&self, base: &Faults) -> Faults {
                Faults {
                    delay: self.delay.unwrap_or(base.delay),
                    jitter: self.jitter.unwrap_or(base.jitter),
                    loss: self.loss.unwrap_or(base.loss),
                    burst: self.burst.unwrap_or(base.burst),
                    reorder: self.reorder.unwrap_or(base.reorder),
                    duplicate: self.duplicate.unwrap_or(base.duplicate),
                    rate: self.rate.map(|r| r.0).or(base.rate),
                    queue: self.queue.unwrap_or(base.queue),
                    outage: self.outage.or(base.outage),
                }
            }
        }
    };
}

fault_args!(FaultArgs, , "Faults in both directions");
fault_args!(BackFaultArgs, "back-", "Faults from OUT to IN");

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn the_command_line_is_consistent() {
        Args::command().debug_assert();
    }

    #[test]
    fn a_path_takes_every_fault_and_each_way_its_own() {
        let line = "choir sim path --in 127.0.0.1:7001 --out 127.0.0.1:7002 --delay 40ms --jitter 5ms --loss 1% --burst 3 --reorder 0.1% \
                    --duplicate 0.1% --rate 20Mbps --queue 100ms --outage 2s@30s --seed 7 --back-loss 2% --back-delay 10ms";
        let args = Args::try_parse_from(line.split_whitespace()).expect("parses");
        let Command::Sim(sim) = args.command else { panic!("no stand-in") };
        let Sim::Path(p) = sim.what else { panic!("not a path") };
        let there = p.both.over(&Faults::default());
        let back = p.back.over(&there);
        assert_eq!((there.loss, back.loss), (0.01, 0.02));
        assert_eq!((there.delay.as_millis(), back.delay.as_millis()), (40, 10));
        assert_eq!((there.burst, back.burst, there.rate), (3.0, 3.0, Some(20_000_000)));
        assert_eq!(there.outage.map(|o| o.every.as_secs()), Some(30));
    }

    #[test]
    fn wrong_values_say_what_is_allowed() {
        for (line, says) in [
            ("choir demo --for 20", "has no unit"),
            ("choir demo --net 10.0", "never leaves this machine"),
            ("choir sim path --in 127.0.0.1:1 --out 127.0.0.1:2 --outage 3s@2s", "shorter than"),
            ("choir sim camera --to - --size big", "not a picture size"),
        ] {
            let error = Args::try_parse_from(line.split_whitespace()).expect_err(line).to_string();
            assert!(error.contains(says), "{error}");
        }
    }
}
