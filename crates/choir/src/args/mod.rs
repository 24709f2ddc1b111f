//! The command line, as plain data.

mod device;
mod linecheck;
mod path;
mod sheet;
mod stave;

pub use device::{AddressArgs, Device, DeviceArgs, FindArgs, MoveArgs, PtzAction, PtzArgs, SimDeviceArgs};

pub use linecheck::LinecheckArgs;
pub use path::{PathMeasureArgs, Towards};
pub use sheet::{
    AddFeed, AddLine, AdviseArgs, Arrive, BudgetArgs, CardArgs, CheckArgs, FeedEdit, FeedEditArgs, LineEdit, LineEditArgs, NewArgs, Target,
    WriteArgs,
};
pub use stave::{DirectoryArgs, LanArgs, LanFlags, ListArgs, Stave, StaveArgs};

use choir_core::units::{Bitrate, parse_bitrate, parse_duration, parse_share, parse_size};
use choir_path::{Faults, Outage};
use choir_sim::camera::Manner;
use clap::{Args as ClapArgs, Parser, Subcommand};
use clap_complete::Shell;
use std::{net::SocketAddr, path::PathBuf, time::Duration};

const EXIT_CODES: &str = "Exit codes: 0 done; 1 it ran, but nothing arrived or the sheet has errors; 2 the command line cannot be understood; \
3 no such show is running, it runs already, or it refused; 4 a port, file, name or passphrase cannot be had; 5 something differs from what the sheet wants, or does not fit.";

/// Connects cameras, encoders and field units to switching software, and keeps them on air.
#[derive(Debug, Parser)]
#[command(name = "choir", version, after_help = EXIT_CODES, propagate_version = true)]
pub struct Args {
    /// Say more on stderr; twice or three times for more still.
    #[arg(short, long, action = clap::ArgAction::Count, global = true)]
    pub verbose: u8,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Play the Tarn Hollow Regatta on this machine: cameras, bad paths, a switcher.
    Demo(DemoArgs),
    /// Carry one link from here to there, without a patch sheet.
    Link(LinkArgs),
    /// Find devices: listen, ask all, and ask each address.
    Find(FindArgs),
    /// Show, compare, set, move and restart the sheet's devices.
    Device(DeviceArgs),
    /// Steer a camera: presets, moves, a live panel.
    Ptz(PtzArgs),
    /// Names on the LAN: list them, keep a directory of them.
    Stave(StaveArgs),
    /// Join a source for a few seconds and say what is there.
    Inspect(InspectArgs),
    /// Read a patch sheet and say what is wrong with it. Touches no network.
    Check(CheckArgs),
    /// Write a new patch sheet from a few questions, or from what was found.
    New(NewArgs),
    /// Add, remove or rename a line of a patch sheet.
    Line(LineEditArgs),
    /// Add, remove or rename a feed of a patch sheet.
    Feed(FeedEditArgs),
    /// Say what to type at the other end, field by field.
    Card(CardArgs),
    /// Add up what each network carries, and say what to change when it is too much.
    Budget(BudgetArgs),
    /// Advise latency and overhead for a path.
    Advise(AdviseArgs),
    /// Measure the path to another Cable Choir, and advise latency and overhead for it.
    Path(PathMeasureArgs),
    /// Check every line and feed before the show.
    Linecheck(LinecheckArgs),
    /// Bring up all of a patch sheet and keep it up.
    Run(RunArgs),
    /// Show how a running show stands.
    Status(StatusArgs),
    /// Watch a running show live.
    Watch(ShowArgs),
    /// Put another line on a feed, at that line's next keyframe.
    Take(TakeArgs),
    /// Stop a line until it is released.
    Hold(LineArgs),
    /// Start a held line again.
    Release(LineArgs),
    /// Read the sheet of a running show again, and apply only what differs.
    Reload(ShowArgs),
    /// End a running show.
    Stop(ShowArgs),
    /// Stand-ins to rehearse against: camera, field-unit, device, switcher, path.
    Sim(Box<SimArgs>),
    /// Print completions for a shell.
    Completions {
        /// Which shell.
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
    /// End by itself after this time, like 20s.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
    /// Print one JSON document at the end.
    #[arg(long)]
    pub json: bool,
    /// First two octets of all addresses, so that two demos can run side by side.
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
      without a host it listens; bind=IP[:PORT] chooses the own address; overhead=25% or
      ceiling=12Mbps limit the sender; the passphrase by passphrase-env=NAME,
      passphrase-file=PATH or passphrase=TEXT
  rtsp://[USER@]HOST[:PORT]/PATH?QUERY
      as FROM a camera that is pulled (port 554); as TO a feed that is served (port 8554) at
      rtsp://:PORT/NAME; own settings stand behind a #: password-env=NAME or password-file=PATH,
      transport=auto|udp|tcp|multicast, reorder=MS, damaged=wait|pass, interface=ADDRESS;
      to serve: group=ADDRESS:PORT and ttl=N offer multicast
  rtp://HOST:PORT       transport stream in RTP; with sdp=FILE what the session description says
  stave://[MACHINE/]NAME
      as FROM a name on the LAN, with ?grade=intra|long-gop|sub, patience=MS,
      carriage=streams|multicast; as TO offered by that name
  udp://HOST:PORT       transport stream in datagrams of seven packets; as FROM the host is the
      own address; both also with a group: udp://[SOURCE@]GROUP:PORT?interface=ADDRESS&ttl=N
  FILE.ts               as FROM played at the pace of its clock; with ?repeat again and again
  -                     standard input or output

Examples:
  choir link 'srt://:7001?latency=200' udp://127.0.0.1:5004
  choir link clip.ts?repeat 'srt://127.0.0.1:7001?streamid=finish&passphrase-env=SECRET' --for 1min --json
  choir link 'srt://127.0.0.1:7001' - > take.ts
  choir link 'rtsp://desk@127.0.0.1/main#password-env=CAMERA' 'srt://127.0.0.1:7001'
  choir link 'srt://:7001' rtsp://127.0.0.1:8554/finish
  choir link 'srt://:7001' 'stave://Towpath Bicycle' --key-env REGATTA_LAN")]
pub struct LinkArgs {
    /// Where it comes from.
    pub from: String,
    /// Where it goes.
    pub to: String,
    /// End by itself after this time, like 30s.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
    /// Print one JSON object with the counters of both ends at the end, as last line of stdout.
    #[arg(long)]
    pub json: bool,
    /// Print a JSON object each time this has passed, like 1s.
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
  choir inspect 'stave://Finish Tower' --on 10.1.2.7 --key-env REGATTA_LAN

Exit codes: 0 it is there, and as the line expects it; 1 nothing there; 5 it differs from what the line expects; \
2 and 4 as for all commands.")]
pub struct InspectArgs {
    /// Any FROM of choir link. Left out, the line's own.
    #[arg(required_unless_present = "line")]
    pub url: Option<String>,
    /// How long to look, counted from the first packet.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", default_value = "5s")]
    pub for_time: Duration,
    /// How long to wait for the first packet.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "10s")]
    pub wait: Duration,
    /// Print everything as JSON.
    #[arg(long)]
    pub json: bool,
    /// A patch sheet whose line says what is expected.
    #[arg(long, value_name = "SHEET", requires = "line")]
    pub sheet: Option<PathBuf>,
    /// The line of the sheet.
    #[arg(long, value_name = "NAME", requires = "sheet")]
    pub line: Option<String>,
    #[command(flatten)]
    pub lan: LanFlags,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:\n  choir run regatta.toml\n  choir run regatta.toml --watch-sheet")]
pub struct RunArgs {
    /// The patch sheet.
    pub sheet: PathBuf,
    /// End by itself after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
    /// Apply the sheet at every save: only what differs. A sheet with errors changes nothing.
    #[arg(long)]
    pub watch_sheet: bool,
    /// Print events as lines even on a terminal.
    #[arg(long)]
    pub plain: bool,
    /// Print one JSON document at the end.
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct ShowArgs {
    /// The sheet of the show; not needed when only one is running.
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:\n  choir status\n  choir status regatta.toml --json")]
pub struct StatusArgs {
    /// The sheet of the show; not needed when only one is running.
    pub sheet: Option<PathBuf>,
    /// Print everything as JSON.
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Example:\n  choir take boathouse-1 start-pontoon")]
pub struct TakeArgs {
    /// The feed.
    pub feed: String,
    /// The line to put on it.
    pub line: String,
    /// The sheet of the show; not needed when only one is running.
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
pub struct LineArgs {
    /// The line.
    pub line: String,
    /// The sheet of the show; not needed when only one is running.
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
pub struct SimArgs {
    #[command(subcommand)]
    pub what: Sim,
}

#[derive(Debug, Subcommand)]
pub enum Sim {
    /// A camera: a moving scene in H.264 with the time in each frame.
    Camera(CameraArgs),
    /// A field unit: a camera with the settings of a moving one (640x360, 2.5 Mbps, 400 ms).
    FieldUnit(CameraArgs),
    /// A device with its control: ONVIF, VISCA, discovery, streams that change when they are set.
    Device(SimDeviceArgs),
    /// A switcher: inputs that measure what reaches them.
    Switcher(SwitcherArgs),
    /// A bad network path: a two-way UDP relay with faults.
    Path(Box<PathArgs>),
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir sim camera --to 'srt://127.0.0.1:7101?mode=caller' --size 1280x720 --rate 25 --bitrate 6Mbps
  choir sim camera --serve 127.0.0.1:8554 --sub 320x180
  choir sim camera --stave 'Winners Dock' --on 127.20.0.41 --intra 100Mbps --sub 320x180
  choir sim camera --serve 127.0.0.1:8554 --user desk --password-env SECRET --manner silent-udp --manner metadata-track

Manners, each a thing that cameras do wrong or otherwise: no-control, absolute-control, wrong-base, no-base, proof-at-setup, \
old-nonces, many-proofs, restarts, no-reports, lying-markers, no-markers, sets-in-description, sets-in-band, \
wrong-profile, metadata-track, no-udp, silent-udp, odd-headers, redirects, no-get-parameter, short-sessions, \
latm, takes-requests.")]
pub struct CameraArgs {
    /// Where to send: any TO of choir link.
    #[arg(long, required_unless_present_any = ["serve", "stave"])]
    pub to: Option<String>,
    /// Offer itself by this name on the LAN, with a head that is steered by name.
    #[arg(long, value_name = "NAME", conflicts_with_all = ["serve", "to"])]
    pub stave: Option<String>,
    /// With --stave: also an intra stream of this rate.
    #[arg(long, value_parser = bitrate, value_name = "RATE", requires = "stave")]
    pub intra: Option<Bitrate>,
    /// With --intra: channels of PCM sound.
    #[arg(long, value_name = "COUNT", default_value_t = 2, value_parser = clap::value_parser!(u8).range(1..=16))]
    pub channels: u8,
    /// Wait here to be pulled by RTSP: /main, and /sub with --sub.
    #[arg(long, value_name = "IP:PORT", conflicts_with = "to")]
    pub serve: Option<SocketAddr>,
    /// Size of the sub stream, like 320x180.
    #[arg(long, value_parser = size)]
    pub sub: Option<(u32, u32)>,
    /// Only this user may look.
    #[arg(long, requires_all = ["serve", "password_env"])]
    pub user: Option<String>,
    /// Variable that holds the user's password.
    #[arg(long, value_name = "NAME", requires = "user")]
    pub password_env: Option<String>,
    /// Also offer a group, like 239.20.0.11:6000.
    #[arg(long, value_name = "IP:PORT", requires = "serve")]
    pub group: Option<SocketAddr>,
    /// What it does wrong; may be given several times.
    #[arg(long, value_parser = manner, requires = "serve")]
    pub manner: Vec<Manner>,
    /// Send the shipped H.265 loop (960x540 at 25) instead of drawing a picture.
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
    /// Let the bitrate vary: no null packets.
    #[arg(long)]
    pub variable: bool,
    /// Seconds from keyframe to keyframe.
    #[arg(long, default_value_t = 1.0)]
    pub keyframe: f64,
    /// Without sound.
    #[arg(long)]
    pub mute: bool,
    #[command(flatten)]
    pub lan: LanArgs,
    /// End by itself after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir sim switcher 'srt://:7201?latency=60' udp://127.0.0.1:7202
  choir sim switcher 'stave://Finish Tower' 'stave://Towpath Bicycle' --on 127.20.0.40 --desk
  choir sim switcher 'stave://Finish Tower' 'stave://Start Pontoon' --sheet regatta.toml --cycle 5s

Sources that come by name are told what is on air and what comes next.")]
pub struct SwitcherArgs {
    /// One input each: any FROM of choir link, or stave://NAME.
    #[arg(required = true)]
    pub inputs: Vec<String>,
    /// Put an input on air by typing its number; two numbers: that on air, this next; 0 for none.
    #[arg(long, conflicts_with = "cycle")]
    pub desk: bool,
    /// Put one after the other on air, each for this time.
    #[arg(long, value_parser = duration, value_name = "TIME")]
    pub cycle: Option<Duration>,
    #[command(flatten)]
    pub lan: LanArgs,
    /// End by itself after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
    /// Print what was measured as JSON at the end.
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Example:
  choir sim path --in 127.0.0.1:7001 --out 127.0.0.1:7002 --delay 40ms --jitter 5ms --loss 1% --burst 3 \\
      --reorder 0.1% --duplicate 0.1% --rate 20Mbps --queue 100ms --outage 2s@30s --seed 7

Every fault holds both ways; --back-FAULT sets it for the way back (from OUT to IN) alone.")]
pub struct PathArgs {
    /// Address that senders use.
    #[arg(long = "in", value_name = "IP:PORT")]
    pub listen: SocketAddr,
    /// Where their packets go.
    #[arg(long = "out", value_name = "IP:PORT")]
    pub to: SocketAddr,
    /// Own address towards OUT.
    #[arg(long, value_name = "IP:PORT")]
    pub from: Option<SocketAddr>,
    /// The sender, if the other end speaks first (rendezvous). Else whoever sent last.
    #[arg(long, value_name = "IP:PORT")]
    pub client: Option<SocketAddr>,
    #[command(flatten)]
    pub both: FaultArgs,
    #[command(flatten)]
    pub back: BackFaultArgs,
    /// The same seed does the same to the same packets.
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    /// End by itself after this time.
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
            /// Up to this much more; keeps the order.
            #[arg(id = concat!($($prefix,)? "jitter"), long = concat!($($prefix,)? "jitter"), value_parser = duration, value_name = "TIME")]
            jitter: Option<Duration>,
            /// Share of packets lost, like 1%.
            #[arg(id = concat!($($prefix,)? "loss"), long = concat!($($prefix,)? "loss"), value_parser = share, value_name = "PERCENT")]
            loss: Option<f64>,
            /// Mean number lost in a row (Gilbert-Elliott).
            #[arg(id = concat!($($prefix,)? "burst"), long = concat!($($prefix,)? "burst"), value_name = "PACKETS")]
            burst: Option<f64>,
            /// Share overtaken by later ones.
            #[arg(id = concat!($($prefix,)? "reorder"), long = concat!($($prefix,)? "reorder"), value_parser = share, value_name = "PERCENT")]
            reorder: Option<f64>,
            /// Share that arrives twice.
            #[arg(id = concat!($($prefix,)? "duplicate"), long = concat!($($prefix,)? "duplicate"), value_parser = share, value_name = "PERCENT")]
            duplicate: Option<f64>,
            /// Rate limit, headers included, like 20Mbps.
            #[arg(id = concat!($($prefix,)? "rate"), long = concat!($($prefix,)? "rate"), value_parser = bitrate, value_name = "BITRATE")]
            rate: Option<Bitrate>,
            /// Longest wait before the rate limit; longer is dropped. Default 100ms.
            #[arg(id = concat!($($prefix,)? "queue"), long = concat!($($prefix,)? "queue"), value_parser = duration, value_name = "TIME")]
            queue: Option<Duration>,
            /// Blackouts: LENGTH@EVERY, like 2s@30s.
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

fault_args!(FaultArgs, , "Faults, both ways");
fault_args!(BackFaultArgs, "back-", "Faults on the way back");

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
