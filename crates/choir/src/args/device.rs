//! Arguments of the commands that find, set and steer devices.

use super::duration;
use choir_core::{device::Control, sheet::parse_with_prefix};
use clap::{Args as ClapArgs, Subcommand};
use std::{net::Ipv4Addr, path::PathBuf, time::Duration};

fn with_prefix(text: &str) -> Result<(Ipv4Addr, u8), String> {
    parse_with_prefix(text).ok_or_else(|| "write an address with its prefix length, like 10.1.2.30/24 (8 to 30)".into())
}

fn steering(word: &str) -> Result<Control, String> {
    let words: Vec<&str> = Control::WORDS.iter().map(|(w, _)| *w).filter(|w| *w != "manual").collect();
    Control::from_word(word).filter(|c| *c != Control::Manual).ok_or_else(|| choir_core::spelling::did_you_mean(word, &words))
}

fn speed(text: &str) -> Result<f64, String> {
    text.parse().ok().filter(|v| (-1.0..=1.0).contains(v)).ok_or_else(|| "a speed is a number from -1 to 1".into())
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir find                           all subnets of this machine
  choir find eth0
  choir find 10.1.2.0/24 --json
  choir find 10.1.2.10-40 --add regatta.toml --choose all

Asks by multicast (DNS-SD, WS-Discovery), reads the neighbour table, and asks each address for \
RTSP, ONVIF, VISCA and a web page. Never sends a password.

Exit codes: 0 devices found; 1 none found; 2 and 4 as for all commands.")]
pub struct FindArgs {
    /// Interface, subnet like 10.1.2.0/24, range like 10.1.2.10-10.1.2.40, or one address
    /// [default: this machine's subnets].
    pub what: Option<String>,
    /// Write the chosen devices into this patch sheet; a missing file becomes a new sheet.
    #[arg(long, value_name = "SHEET")]
    pub add: Option<PathBuf>,
    /// Devices to add, without asking: all, or numbers and addresses separated by commas.
    #[arg(long, value_name = "LIST", requires = "add")]
    pub choose: Option<String>,
    /// Another factory address of devices here; repeatable.
    #[arg(long, value_name = "IP")]
    pub factory: Vec<Ipv4Addr>,
    /// Limit: packets per second, 50 to 5000 [default: 440].
    #[arg(long, value_name = "PACKETS", value_parser = clap::value_parser!(u32).range(50..=5000))]
    pub pace: Option<u32>,
    /// Listen for announcements at least this long.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "2s")]
    pub listen: Duration,
    /// Do not ask before more than 4096 addresses are scanned.
    #[arg(long)]
    pub yes: bool,
    /// Print the devices as JSON.
    #[arg(long)]
    pub json: bool,
}

/// Where the device's entry is.
#[derive(Debug, Clone, ClapArgs)]
pub struct SheetArg {
    /// The patch sheet [default: $CHOIR_SHEET, or the only .toml file here with devices].
    #[arg(long, value_name = "SHEET", global = true)]
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir device show finish-tower
  choir device diff
  choir device apply finish-tower umpire-launch
  choir device address umpire-launch --static 10.1.2.30/24

Exit codes: 0 done, or no difference; 1 a device did not answer, refused, or sent no stream; \
5 a device differs from the sheet; 2 and 4 as for all commands.")]
pub struct DeviceArgs {
    #[command(subcommand)]
    pub what: Device,
    #[command(flatten)]
    pub sheet: SheetArg,
}

#[derive(Debug, Subcommand)]
pub enum Device {
    /// Show what a device reports: identity, network, settings and the values it allows.
    Show {
        /// The device.
        name: String,
        /// Print as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Compare the sheet with the devices.
    Diff {
        /// The devices [default: all in the sheet].
        names: Vec<String>,
        /// Print as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Set what differs, restart if needed, read back, and measure the stream.
    Apply {
        /// The devices [default: all in the sheet].
        names: Vec<String>,
        /// Do not ask for confirmation.
        #[arg(long)]
        yes: bool,
        /// Print what was done as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Restart a device and wait until it is back.
    Restart {
        /// The device.
        name: String,
        /// Do not ask for confirmation.
        #[arg(long)]
        yes: bool,
    },
    /// Change a device's address, wait for it there, and write it into the sheet.
    Address(AddressArgs),
    /// Change the password of the device's user, from a prompt or a file.
    Password {
        /// The device.
        name: String,
        /// File with the new password in its first line.
        #[arg(long, value_name = "PATH")]
        file: Option<PathBuf>,
    },
}

#[derive(Debug, ClapArgs)]
#[command(group = clap::ArgGroup::new("how").required(true))]
pub struct AddressArgs {
    /// The device.
    pub name: String,
    /// Fixed address and prefix length.
    #[arg(long = "static", value_name = "IP/PREFIX", value_parser = with_prefix, group = "how")]
    pub fixed: Option<(Ipv4Addr, u8)>,
    /// Address by DHCP.
    #[arg(long, group = "how")]
    pub dhcp: bool,
    /// Gateway, with --static.
    #[arg(long, value_name = "IP", conflicts_with = "dhcp")]
    pub gateway: Option<Ipv4Addr>,
    /// Do not ask for confirmation.
    #[arg(long)]
    pub yes: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir ptz finish-tower                     live panel: arrows, + and -, numbers
  choir ptz finish-tower goto 3
  choir ptz finish-tower store 3 \"Finish line\"
  choir ptz finish-tower move --pan 0.3 --tilt -0.1 --for 800ms
  choir ptz finish-tower frame 70% 40%          that point to the middle
  choir ptz finish-tower frame 60% 30% 25% 25%  that part fills the picture
  choir ptz finish-tower tally on --by visca
  choir ptz 'stave://Finish Tower' goto 3 --sheet regatta.toml

A Stave name is steered through the machine that offers it, if its sheet says steer = true: moves \
up to 10 s, stop, home, and presets by number. Every move has a time limit; the stop after it is \
repeated until the camera answers.")]
pub struct PtzArgs {
    /// The device, or stave://NAME or stave://MACHINE/NAME.
    pub name: String,
    #[command(subcommand)]
    pub action: Option<PtzAction>,
    /// Protocol to steer by [default: the sheet's]: onvif, visca, visca-tcp, visca-udp.
    #[arg(long, value_parser = steering, value_name = "PROTOCOL", global = true)]
    pub by: Option<Control>,
    #[command(flatten)]
    pub sheet: SheetArg,
    /// Print the answer as JSON.
    #[arg(long, global = true)]
    pub json: bool,
}

#[derive(Debug, Subcommand)]
pub enum PtzAction {
    /// Go to a preset, by number or name.
    Goto {
        /// Number or name of the preset.
        preset: String,
    },
    /// Store the present position.
    Store {
        /// Number of the preset.
        preset: String,
        /// Name, kept in the sheet if the protocol has no names.
        name: Option<String>,
    },
    /// List the presets.
    List,
    /// Go to the home position.
    Home,
    /// Move for a time, then stop.
    Move(MoveArgs),
    /// Bring a point of the picture to its middle, or make a part of it fill the picture.
    Frame(FrameArgs),
    /// Stop all movement.
    Stop,
    /// Show where the camera looks.
    Where,
    /// Switch the tally lamp.
    Tally {
        /// The lamp.
        #[arg(value_parser = ["on", "off"])]
        lamp: String,
    },
}

#[derive(Debug, ClapArgs)]
pub struct FrameArgs {
    /// Shares of the picture: the point's from the left and from the top, or the part's left and
    /// top edge and its width and height.
    #[arg(value_names = ["LEFT", "TOP", "WIDTH", "HEIGHT"], num_args = 2..=4, required = true, value_parser = share)]
    pub part: Vec<f64>,
}

/// A share of the picture, `40%`.
fn share(text: &str) -> Result<f64, String> {
    let percent = text.trim_end_matches('%').parse::<f64>().ok().filter(|p| (0.0..=100.0).contains(p));
    percent.map(|p| p / 100.0).ok_or_else(|| "a share of the picture from 0% to 100%".into())
}

#[derive(Debug, ClapArgs)]
#[command(allow_negative_numbers = true)]
pub struct MoveArgs {
    /// Speed to the right, -1 to 1.
    #[arg(long, value_parser = speed, default_value_t = 0.0)]
    pub pan: f64,
    /// Speed upwards, -1 to 1.
    #[arg(long, value_parser = speed, default_value_t = 0.0)]
    pub tilt: f64,
    /// Speed towards tele, -1 to 1.
    #[arg(long, value_parser = speed, default_value_t = 0.0)]
    pub zoom: f64,
    /// How long, at most 30s.
    #[arg(long = "for", value_parser = duration, value_name = "TIME", default_value = "500ms")]
    pub time: Duration,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir sim device ptz-camera --at 127.20.0.41
  choir sim device encoder --at 127.20.0.9 --password-env SECRET

ONVIF on port 8000, streams at rtsp://IP:8554/main and /sub; a camera also has VISCA on UDP port \
52381 and TCP port 5678.")]
pub struct SimDeviceArgs {
    /// Kind of device.
    #[arg(value_parser = ["ptz-camera", "encoder"])]
    pub kind: String,
    /// Address, in 127.0.0.0/8.
    #[arg(long, value_name = "IP")]
    pub at: Ipv4Addr,
    /// The address is one of a network namespace that was made for this.
    #[arg(long, hide = true)]
    pub in_namespace: bool,
    /// Name.
    #[arg(long, default_value = "finish-tower")]
    pub name: String,
    /// User.
    #[arg(long, default_value = "desk")]
    pub user: String,
    /// Environment variable with the user's password [default password: admin].
    #[arg(long, value_name = "NAME")]
    pub password_env: Option<String>,
    /// Stop after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
}
