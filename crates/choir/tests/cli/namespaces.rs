//! Finding devices and names on a network of its own: real interfaces, multicast and hardware
//! addresses, in network namespaces that the test makes. Where the system does not allow them it is
//! skipped, unless CHOIR_NAMESPACES=required.

use crate::place::{CHOIR, Place, Running};
use choir_sim::stalls::timed;
use std::{
    process::Command,
    sync::atomic::{AtomicU32, Ordering},
};

struct Site {
    names: Vec<String>,
    finder: String,
}

fn ip(args: &str) -> Result<(), String> {
    let out = Command::new("ip").args(args.split(' ')).output().map_err(|e| format!("ip: {e}"))?;
    if out.status.success() { Ok(()) } else { Err(format!("ip {args}: {}", String::from_utf8_lossy(&out.stderr).trim())) }
}

impl Site {
    /// A boathouse with a bridge, and one namespace for each device address.
    fn build(devices: &[&str]) -> Result<Self, String> {
        static SITES: AtomicU32 = AtomicU32::new(0);
        let id = format!("{}-{}", std::process::id(), SITES.fetch_add(1, Ordering::Relaxed));
        let finder = format!("choir-{id}");
        let mut site = Self { names: Vec::new(), finder: finder.clone() };
        site.add(&finder)?;
        ip(&format!("-n {finder} link add br0 type bridge"))?;
        ip(&format!("-n {finder} link set br0 up"))?;
        ip(&format!("-n {finder} address add 10.77.0.5/24 dev br0"))?;
        // As a laptop has it; without it the system drops what comes from addresses that it knows
        // no way to.
        ip(&format!("-n {finder} route add default via 10.77.0.1"))?;
        for (n, address) in devices.iter().enumerate() {
            let name = format!("choir-{id}-{n}");
            site.add(&name)?;
            site.plug(n, address)?;
        }
        Ok(site)
    }

    /// Gives the nth device an interface, and a cable to the bridge.
    fn plug(&self, n: usize, address: &str) -> Result<(), String> {
        let (finder, name) = (&self.finder, &self.names[n + 1]);
        ip(&format!("-n {finder} link add port{n} type veth peer name eth0 netns {name}"))?;
        ip(&format!("-n {finder} link set port{n} master br0 up"))?;
        ip(&format!("-n {name} address add {address}/24 dev eth0"))?;
        ip(&format!("-n {name} link set eth0 address 02:77:00:00:00:0{n} up"))?;
        // Multicast goes out by the only interface there is.
        ip(&format!("-n {name} route add 224.0.0.0/4 dev eth0"))
    }

    /// Takes it away, as one by USB is when it is pulled.
    fn unplug(&self, n: usize) {
        ip(&format!("-n {} link del port{n}", self.finder)).expect("an interface goes");
    }

    fn add(&mut self, name: &str) -> Result<(), String> {
        ip(&format!("netns add {name}"))?;
        self.names.push(name.to_owned());
        ip(&format!("-n {name} link set lo up"))
    }

    fn command(&self, place: &Place, name: &str, args: &[&str]) -> Command {
        let choir = place.command(args);
        let mut command = Command::new("ip");
        command.args(["netns", "exec", name, CHOIR]).args(args).current_dir(place.dir.path());
        command.envs(choir.get_envs().filter_map(|(k, v)| Some((k, v?))));
        command
    }

    fn device(&self, place: &Place, n: usize, kind: &str, at: &str) -> Running {
        let args = ["sim", "device", kind, "--at", at, "--in-namespace", "--name", "finish-tower"];
        Running::of(self.command(place, &self.names[n + 1], &args))
    }
}

impl Drop for Site {
    fn drop(&mut self) {
        for name in &self.names {
            let _ = ip(&format!("netns del {name}"));
        }
    }
}

/// A site, where the system allows one.
fn site(devices: &[&str]) -> Option<Site> {
    match Site::build(devices) {
        Ok(site) => Some(site),
        Err(why) => {
            assert!(std::env::var_os("CHOIR_NAMESPACES").is_none_or(|v| v != "required"), "{why}");
            eprintln!("skipped, since this system allows no network namespaces: {why}");
            None
        }
    }
}

#[test]
fn a_real_network_is_asked_listened_to_and_read() {
    let place = Place::new();
    let Some(site) = site(&["10.77.0.9", "10.77.0.9", "10.77.0.11", "192.168.100.88"]) else { return };
    let mut devices = [
        site.device(&place, 0, "encoder", "10.77.0.9"),
        site.device(&place, 1, "encoder", "10.77.0.9"),
        site.device(&place, 2, "ptz-camera", "10.77.0.11"),
    ];
    devices.iter_mut().for_each(|d| drop(d.says("ONVIF at")));
    // Without a range: the subnets of this machine's interfaces.
    let mut finding = Running::of(site.command(&place, &site.finder, &["find", "--factory", "10.77.0.9", "--listen", "9s", "--json"]));
    finding.says("asking 253 addresses, by multicast on br0");
    // From a subnet that is not ours nothing can be answered; its word on arrival is heard.
    let mut lost = site.device(&place, 3, "encoder", "192.168.100.88");
    lost.says("ONVIF at");
    let (code, text) = finding.end();
    assert_eq!(code, 0, "{:?}", finding.seen);
    let found: serde_json::Value = serde_json::from_str(&text).expect("JSON");
    let by = |address: &str| {
        let all = found.as_array().expect("a list");
        all.iter().find(|d| d["address"] == address).unwrap_or_else(|| panic!("{address} in\n{found:#}")).clone()
    };
    let words = |d: &serde_json::Value| -> Vec<String> {
        d["flags"].as_array().into_iter().flatten().filter_map(|f| Some(f["word"].as_str()?.to_owned())).collect()
    };
    let shared = by("10.77.0.9");
    assert_eq!(words(&shared), ["factory-address", "shared-address"], "{found:#}");
    assert_eq!(shared["macs"], serde_json::json!(["02:77:00:00:00:00", "02:77:00:00:00:01"]));
    let camera = by("10.77.0.11");
    assert_eq!((camera["what"].as_str(), camera["macs"][0].as_str()), (Some("PTZ camera"), Some("02:77:00:00:00:02")));
    let outside = by("192.168.100.88");
    assert_eq!(words(&outside), ["factory-address", "outside"]);
    assert!(outside["flags"][1]["text"].as_str().expect("text").contains("192.168.100.254/24 dev br0"), "{outside:#}");
}

#[test]
fn groups_are_joined_again_when_their_interface_was_pulled_and_is_back() {
    let place = Place::new();
    let Some(site) = site(&["10.77.0.31", "10.77.0.32"]) else { return };
    place.clip();
    let (camera, desk) = (&site.names[1], &site.names[2]);
    let show = |line: &str| {
        place.write(&format!("{line}.toml"), &format!("[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"{line}\"\n"))
    };
    let named = show("named");
    let add = |sheet: &str, more: &str| {
        let text = std::fs::read_to_string(sheet).expect("a sheet");
        std::fs::write(sheet, text + more).expect("written");
    };
    add(&named, "from = \"udp://239.20.0.9:7206?interface=10.77.0.32\"\n[[line]]\nname = \"routed\"\nfrom = \"udp://239.20.0.10:7208\"\n");
    let sends = show("clip");
    add(
        &sends,
        "from = \"clip.ts?repeat\"\n[[feed]]\nname = \"group\"\nline = \"clip\"\nto = [\"udp://239.20.0.9:7206?interface=10.77.0.31\", \"udp://239.20.0.10:7208?interface=10.77.0.31\"]\n",
    );
    let mut there = Running::of(site.command(&place, desk, &["run", &named]));
    let mut here = Running::of(site.command(&place, camera, &["run", &sends]));
    there.says("line named: steady");
    there.says_or_said("line routed: steady");
    // The receiver's; it comes back with the address that it had.
    site.unplug(1);
    there.says("network changed: gone: eth0 10.77.0.32");
    let lost = there.says("line named: ");
    assert!(!lost.contains("steady"), "{lost}");
    site.plug(1, "10.77.0.32").expect("it is back");
    // Both in one go, or the one that goes by its route when that is there.
    there.says("joined again");
    there.says("line named: steady");
    there.says_or_said("line routed: steady");
    // The sender's, which is given another one.
    site.unplug(0);
    here.says("network changed: gone: eth0 10.77.0.31");
    let lost = there.says("line named: ");
    assert!(!lost.contains("steady"), "{lost}");
    site.plug(0, "10.77.0.35").expect("it is back");
    here.says("network changed: new: eth0 10.77.0.35");
    there.says("line named: steady");
    for show in [&mut there, &mut here] {
        show.interrupt();
        assert_eq!(show.end().0, 0, "{:?}", show.seen);
    }
}

fn a_name_is_followed() {
    let place = Place::new();
    let Some(site) = site(&["10.77.0.21", "10.77.0.22"]) else { return };
    place.clip();
    let (tower, desk) = (&site.names[1], &site.names[2]);
    let stave =
        |machine: &str| format!("[show]\nname = \"Tarn Hollow Regatta\"\n[stave]\nmachine = \"{machine}\"\n[[line]]\nname = \"in\"\n");
    let offers =
        format!("{}from = \"clip.ts?repeat\"\n[[feed]]\nname = \"out\"\nline = \"in\"\nstave = \"Finish Tower\"\n", stave("tower"));
    let offers = place.write("tower.toml", &offers);
    let takes = place.write("desk.toml", &format!("{}from = \"stave://Finish Tower\"\n", stave("desk")));
    // The receiver is there first, and its machine has no network yet.
    ip(&format!("-n {desk} address del 10.77.0.22/24 dev eth0")).expect("an address goes");
    let mut there = Running::of(site.command(&place, desk, &["run", &takes]));
    there.says("no network interface is up");
    ip(&format!("-n {desk} address add 10.77.0.22/24 dev eth0")).expect("an address comes");
    let mut here = Running::of(site.command(&place, tower, &["run", &offers]));
    there.is_steady("line in");
    let peer = |wanted: &str| {
        let out = site.command(&place, desk, &["status", &takes, "--json"]).output().expect("runs");
        let view: serde_json::Value = serde_json::from_slice(&out.stdout).expect("JSON");
        view["lines"][0]["link"]["peer"].as_str().is_some_and(|p| p.starts_with(wanted))
    };
    assert!(peer("10.77.0.21:"));
    // A server gives the tower another address.
    ip(&format!("-n {tower} address add 10.77.0.25/25 dev eth0")).expect("an address comes");
    ip(&format!("-n {tower} address del 10.77.0.21/24 dev eth0")).expect("an address goes");
    let lost = there.says("line in: ");
    assert!(!lost.contains("steady"), "{lost}");
    there.is_steady("line in");
    assert!(peer("10.77.0.25:"), "{:?}", there.seen);
    // With two addresses at a time it stays where it is, and goes by the other when the first
    // is taken away.
    ip(&format!("-n {tower} address add 10.77.0.130/24 dev eth0")).expect("an address comes");
    let out = site.command(&place, desk, &["stave", "list", "--for", "6s", "--json"]).output().expect("runs");
    assert!(out.status.success() && peer("10.77.0.25:"), "{}", String::from_utf8_lossy(&out.stderr));
    ip(&format!("-n {tower} address del 10.77.0.25/25 dev eth0")).expect("an address goes");
    there.is_steady("line in");
    assert!(peer("10.77.0.130:"), "{:?}", there.seen);
    for show in [&mut there, &mut here] {
        show.interrupt();
        assert_eq!(show.end().0, 0, "{:?}", show.seen);
    }
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn a_name_is_followed_when_its_machine_changes_address_and_by_either_way_of_two() {
        timed(a_name_is_followed);
    }
}
