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
  choir find                           all subnets of this machine's interfaces
  choir find eth0
  choir find 10.1.2.0/24 --json
  choir find 10.1.2.10-40 --add regatta.toml --choose all

It listens and asks all (DNS-SD, WS-Discovery), reads the neighbour table, and asks each address for RTSP, ONVIF, VISCA \
and web pages, at most 440 packets a second. It never sends a password.

Exit codes: 0 something was found; 1 nothing was; 2 and 4 as for all commands.")]
pub struct FindArgs {
    /// An interface, 10.1.2.0/24, 10.1.2.10-10.1.2.40 or one address. Left out, this machine's own subnets.
    pub what: Option<String>,
    /// Write the chosen ones into this patch sheet as devices; a new file becomes a new sheet.
    #[arg(long, value_name = "SHEET")]
    pub add: Option<PathBuf>,
    /// Which to add, without asking: all, or numbers and addresses with commas between.
    #[arg(long, value_name = "LIST", requires = "add")]
    pub choose: Option<String>,
    /// Another address that devices here have when they leave the factory; may be given several times.
    #[arg(long, value_name = "IP")]
    pub factory: Vec<Ipv4Addr>,
    /// Packets a second at most, 50 to 5000.
    #[arg(long, value_name = "PACKETS", value_parser = clap::value_parser!(u32).range(50..=5000))]
    pub pace: Option<u32>,
    /// Listen at least this long for devices that announce themselves.
    #[arg(long, value_parser = duration, value_name = "TIME", default_value = "2s")]
    pub listen: Duration,
    /// Ask more than 4096 addresses without asking back.
    #[arg(long)]
    pub yes: bool,
    /// Print what was found as JSON.
    #[arg(long)]
    pub json: bool,
}

/// Where the device's entry is.
#[derive(Debug, Clone, ClapArgs)]
pub struct SheetArg {
    /// The patch sheet. Left out: $CHOIR_SHEET, or the only .toml file here that has devices.
    #[arg(long, value_name = "SHEET", global = true)]
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir device show finish-tower
  choir device diff
  choir device apply finish-tower umpire-launch
  choir device address umpire-launch --static 10.1.2.30/24

Exit codes: 0 done, or as the sheet wants it; 1 a device could not be reached, refused, or nothing came on the wire; \
5 it differs from what the sheet wants; 2 and 4 as for all commands.")]
pub struct DeviceArgs {
    #[command(subcommand)]
    pub what: Device,
    #[command(flatten)]
    pub sheet: SheetArg,
}

#[derive(Debug, Subcommand)]
pub enum Device {
    /// Everything that a device says of itself, and what it allows.
    Show {
        /// The device.
        name: String,
        /// Print it as JSON.
        #[arg(long)]
        json: bool,
    },
    /// What the sheet wants beside what the devices have.
    Diff {
        /// The devices; all of the sheet when left out.
        names: Vec<String>,
        /// Print it as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Set what differs, restart if it must be, read back, and prove it on the wire.
    Apply {
        /// The devices; all of the sheet when left out.
        names: Vec<String>,
        /// Do not ask.
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
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
    /// Give a device another address, wait for it there, and write it into the sheet.
    Address(AddressArgs),
    /// Give the device's user another password, from a prompt or a file.
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
    /// A fixed address.
    #[arg(long = "static", value_name = "IP/PREFIX", value_parser = with_prefix, group = "how")]
    pub fixed: Option<(Ipv4Addr, u8)>,
    /// An address from a server.
    #[arg(long, group = "how")]
    pub dhcp: bool,
    /// The gateway, with --static.
    #[arg(long, value_name = "IP", conflicts_with = "dhcp")]
    pub gateway: Option<Ipv4Addr>,
    /// Do not ask.
    #[arg(long)]
    pub yes: bool,
}

#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:
  choir ptz finish-tower                     a live panel: arrows, + and -, numbers
  choir ptz finish-tower goto 3
  choir ptz finish-tower store 3 \"Finish line\"
  choir ptz finish-tower move --pan 0.3 --tilt -0.1 --for 800ms
  choir ptz finish-tower tally on --by visca
  choir ptz 'stave://Finish Tower' goto 3 --sheet regatta.toml

By a Stave name orders go to the machine that offers it, which passes them on if its sheet says steer = true: moves up to \
10 s, stop, home, and presets by number. Every move carries a time limit, and the stop after it is repeated until the camera answers.")]
pub struct PtzArgs {
    /// The device, or stave://NAME or stave://MACHINE/NAME.
    pub name: String,
    #[command(subcommand)]
    pub action: Option<PtzAction>,
    /// Steer by this protocol instead of the sheet's: onvif, visca, visca-tcp, visca-udp.
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
        /// Number or name.
        preset: String,
    },
    /// Store the present position.
    Store {
        /// Number.
        preset: String,
        /// Name; kept in the sheet where the protocol has none.
        name: Option<String>,
    },
    /// List the presets.
    List,
    /// Go to the home position.
    Home,
    /// Move for a time, then stop.
    Move(MoveArgs),
    /// Stop all movement.
    Stop,
    /// Where it looks.
    Where,
    /// Switch the tally lamp.
    Tally {
        /// on or off.
        #[arg(value_parser = ["on", "off"])]
        lamp: String,
    },
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

ONVIF at port 8000, streams at rtsp://IP:8554/main and /sub, a camera also VISCA at UDP 52381 and TCP 5678.")]
pub struct SimDeviceArgs {
    /// ptz-camera or encoder.
    #[arg(value_parser = ["ptz-camera", "encoder"])]
    pub kind: String,
    /// Its address, in 127.0.0.0/8.
    #[arg(long, value_name = "IP")]
    pub at: Ipv4Addr,
    /// The address is one of a network namespace that was made for this.
    #[arg(long, hide = true)]
    pub in_namespace: bool,
    /// Its name.
    #[arg(long, default_value = "finish-tower")]
    pub name: String,
    /// Its user.
    #[arg(long, default_value = "desk")]
    pub user: String,
    /// Variable that holds its user's password; without one it is the factory's, "admin".
    #[arg(long, value_name = "NAME")]
    pub password_env: Option<String>,
    /// End by itself after this time.
    #[arg(long = "for", value_parser = duration, value_name = "TIME")]
    pub for_time: Option<Duration>,
}
