//! Making a device as the sheet wants it: compare, set only what differs, read back, prove on the
//! wire.
//!
//! ```text
//! plan ─► (the engineer says yes) ─► set streams ─► read back ─► prove ─┬─► as wanted
//!                                                        restart ◄──────┘ the wire still shows the old
//!                                    network last: the device may go elsewhere by it
//! ```

use super::{
    DeviceError, address,
    proof::{Joined, Measure, Proof},
    session, wait,
};
use crate::onvif::{Session, changes_of, read_device, read_streams};
use choir_core::{
    by_hand::by_hand,
    device::{Control, Device, DeviceView, Difference, Impossible, NetworkWish, StreamView, StreamWish, differences, impossible},
    link::{Link, parse_url},
    secret::{Secret, SecretText},
    sheet::Sheet,
};
use choir_host::{Stop, secrets::fetch_text};
use choir_proto::onvif::media::Profile;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// What is being done to a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// A request goes out.
    Setting(String),
    /// It is restarted, and why.
    Restarting(String),
    /// It is back after so many ms.
    Back(u64),
    /// Its settings are read again.
    ReadingBack,
    /// A stream is joined.
    Proving(String),
    /// It moves to this address.
    Moving(String),
}

/// Takes steps as they come.
pub type Progress<'a> = &'a (dyn Fn(&str, Step) + Send + Sync);

/// What would be done to a device.
pub struct Plan {
    /// The device.
    pub device: Device,
    /// As it is; `None` for one that is set by hand.
    pub view: Option<DeviceView>,
    /// What differs.
    pub differs: Vec<Difference>,
    /// What it cannot do: then nothing is sent.
    pub impossible: Vec<Impossible>,
    /// What is to be set by hand.
    pub by_hand: Vec<(String, String)>,
    session: Option<Session>,
    profiles: Vec<Profile>,
    sheet: Sheet,
    base: PathBuf,
}

/// Something that was not done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Failed {
    /// `main: size, bitrate`.
    pub what: String,
    /// Why not.
    pub why: String,
}

/// What was done to a device.
#[derive(Debug, Clone, Default, Serialize)]
pub struct Report {
    /// Device.
    pub name: String,
    /// What was sent and taken.
    pub done: Vec<String>,
    /// What was not taken; what came after it was not sent.
    pub failed: Option<Failed>,
    /// What was not sent any more.
    pub left: Vec<String>,
    /// It was restarted.
    pub restarted: bool,
    /// Taken without a word, and yet not as wanted when read back.
    pub quietly: Vec<Difference>,
    /// The proofs.
    pub proofs: Vec<Proof>,
    /// Its new address, if it moved.
    pub moved_to: Option<std::net::IpAddr>,
}

impl Report {
    /// The device is as the sheet wants it.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.failed.is_none() && self.quietly.is_empty() && self.proofs.iter().all(Proof::holds)
    }
}

/// Looks at a device and compares it with the sheet.
///
/// # Errors
/// It cannot be asked.
pub async fn plan(device: &Device, sheet: &Sheet, base: &Path) -> Result<Plan, DeviceError> {
    let mut plan = Plan {
        device: device.clone(),
        view: None,
        differs: Vec::new(),
        impossible: Vec::new(),
        by_hand: Vec::new(),
        session: None,
        profiles: Vec::new(),
        sheet: sheet.clone(),
        base: base.to_owned(),
    };
    match device.control {
        Control::Manual => plan.by_hand = by_hand(device, sheet),
        Control::Onvif => {
            let mut s = session(device, base).await?;
            let (view, profiles) = read_device(&mut s, &device.name, &device.title).await?;
            plan.impossible = impossible_of(device, &view);
            plan.differs = stream_differences(device, &view.streams);
            plan.differs.extend(network_differences(device, &view));
            (plan.view, plan.profiles, plan.session) = (Some(view), profiles, Some(s));
        }
        _ if device.streams.is_empty() && device.network.is_none() => {}
        _ => {
            return Err(DeviceError::Cannot(format!(
                "{} is steered by VISCA, which cannot set streams or addresses: use control = \"onvif\" or \"manual\" for these",
                device.name
            )));
        }
    }
    Ok(plan)
}

/// The wished streams beside the device's, which may lack one.
fn pairs<'a>(device: &'a Device, streams: &'a [StreamView]) -> impl Iterator<Item = (&'a String, &'a StreamWish, Option<&'a StreamView>)> {
    device.streams.iter().map(|(name, wish)| (name, wish, streams.iter().find(|s| s.name == *name)))
}

fn stream_differences(device: &Device, streams: &[StreamView]) -> Vec<Difference> {
    pairs(device, streams).filter_map(|(_, wish, stream)| Some(differences(wish, stream?))).flatten().collect()
}

fn impossible_of(device: &Device, view: &DeviceView) -> Vec<Impossible> {
    let inputs: Vec<String> = view.inputs.iter().map(|i| i.name.clone()).collect();
    let lacking = |name: &String| {
        let possible = view.streams.iter().map(|s| s.name.clone()).collect::<Vec<_>>().join(", ");
        vec![Impossible { what: format!("{name} stream"), wanted: "there".into(), possible }]
    };
    let one = |(name, wish, stream): (&String, &StreamWish, Option<&StreamView>)| match stream {
        Some(stream) => impossible(wish, stream, &inputs),
        None => lacking(name),
    };
    pairs(device, &view.streams).flat_map(one).collect()
}

fn network_differences(device: &Device, view: &DeviceView) -> Vec<Difference> {
    let (Some(wish), Some(is)) = (&device.network, &view.network) else { return Vec::new() };
    let actual = match (is.dhcp, is.address) {
        (true, _) => "dhcp".to_owned(),
        (false, Some((ip, prefix))) => format!("{ip}/{prefix}"),
        (false, None) => "not said".into(),
    };
    let mut found = Vec::new();
    let mut differs = |what: &str, wanted: String, actual: String| {
        if wanted != actual {
            found.push(Difference { what: format!("network {what}"), wanted, actual });
        }
    };
    match wish {
        NetworkWish::Dhcp => differs("address", "dhcp".into(), actual),
        NetworkWish::Static { ip, prefix, gateway } => {
            differs("address", format!("{ip}/{prefix}"), actual);
            if let Some(g) = gateway {
                differs("gateway", g.to_string(), is.gateway.map_or_else(|| "none".into(), |g| g.to_string()));
            }
        }
    }
    found
}

/// Does what the plan says, and proves it.
pub async fn carry_out<M: Measure>(mut plan: Plan, measure: &M, progress: Progress<'_>, stop: &Stop) -> Report {
    let mut report = Report { name: plan.device.name.clone(), ..Report::default() };
    if plan.session.is_some() {
        set(&mut plan, &mut report, progress).await;
        if report.failed.is_some() {
            return report;
        }
        read_back(&mut plan, &mut report, progress).await;
        if report.failed.is_some() {
            return report;
        }
    }
    proofs(&plan, measure, &mut report, progress).await;
    // It says that it has the new settings and sends by the old: many take them at their next
    // start.
    let explained = |what: &String| report.quietly.iter().any(|q| q.what == *what);
    let old: Vec<String> = report
        .proofs
        .iter()
        .filter(|p| p.measured.is_some())
        .flat_map(|p| &p.differs)
        .map(|d| d.what.clone())
        .filter(|w| !explained(w))
        .collect();
    if !old.is_empty() && plan.session.is_some() && !stop.is_set() {
        restart_and_look(&mut plan, &mut report, progress, old.join(", ")).await;
        if report.failed.is_none() {
            proofs(&plan, measure, &mut report, progress).await;
        }
    }
    if report.failed.is_none() && plan.differs.iter().any(|d| d.what.starts_with("network")) {
        network(&mut plan, &mut report, progress).await;
    }
    report
}

/// Sends what differs, stream by stream; stops at the first refusal and says what is done and what
/// is left.
async fn set(plan: &mut Plan, report: &mut Report, progress: Progress<'_>) {
    let (Some(s), Some(view)) = (&mut plan.session, &plan.view) else { return };
    let mut changes = Vec::new();
    for (place, stream) in view.streams.iter().enumerate() {
        let Some(wish) = plan.device.streams.get(&stream.name) else { continue };
        match changes_of(s, &plan.profiles, place, stream, wish, &plan.differs).await {
            Ok(c) => changes.extend(c),
            Err(e) => {
                report.failed = Some(Failed { what: format!("{}: its settings", stream.name), why: e.to_string() });
                return;
            }
        }
    }
    for change in changes {
        if report.failed.is_some() {
            report.left.push(change.what);
            continue;
        }
        progress(&report.name, Step::Setting(change.what.clone()));
        match change.send(s).await {
            Ok(()) => report.done.push(change.what),
            Err(e) => {
                let unsure =
                    if e.is_absence() { "; whether it took this is not known: run \"choir device diff\" when it is back" } else { "" };
                report.failed = Some(Failed { what: change.what, why: format!("{e}{unsure}") });
            }
        }
    }
}

async fn read_back(plan: &mut Plan, report: &mut Report, progress: Progress<'_>) {
    let Some(s) = &mut plan.session else { return };
    progress(&report.name, Step::ReadingBack);
    match read_streams(s).await {
        Ok((streams, profiles)) => {
            report.quietly = stream_differences(&plan.device, &streams);
            plan.profiles = profiles;
            if let Some(view) = &mut plan.view {
                view.streams = streams;
            }
        }
        Err(e) => report.failed = Some(Failed { what: "reading back".into(), why: e.to_string() }),
    }
}

async fn restart_and_look(plan: &mut Plan, report: &mut Report, progress: Progress<'_>, what: String) {
    let Some(s) = &mut plan.session else { return };
    progress(&report.name, Step::Restarting(what));
    match wait::restart(s).await {
        Ok(gone) => {
            report.restarted = true;
            progress(&report.name, Step::Back(gone.as_millis() as u64));
            // Its nonces are new, and so may be its clock.
            match session(&plan.device, &plan.base).await {
                Ok(fresh) => *s = fresh,
                Err(e) => {
                    report.failed = Some(Failed { what: "after the restart".into(), why: e.to_string() });
                    return;
                }
            }
            read_back(plan, report, progress).await;
        }
        Err(e) => report.failed = Some(Failed { what: "the restart".into(), why: e.to_string() }),
    }
}

/// Joins every stream of which something is wanted.
async fn proofs<M: Measure>(plan: &Plan, measure: &M, report: &mut Report, progress: Progress<'_>) {
    report.proofs.clear();
    let password = plan.device.password.as_ref().and_then(|p| fetch_text(p, &plan.base).ok());
    let login = plan.device.user.as_deref().zip(password.as_ref());
    for (name, wish) in &plan.device.streams {
        let stream: Option<&StreamView> = plan.view.as_ref().and_then(|v| v.streams.iter().find(|s| s.name == *name));
        let own = stream.and_then(|s| s.url.as_ref()).and_then(|u| link_of(u, login));
        let by_line = || plan.sheet.lines.iter().find(|l| wish.line.as_ref() == Some(&l.name)).map(|l| l.from.clone());
        progress(&report.name, Step::Proving(name.clone()));
        let constant = match &stream {
            Some(s) => s.rate_control.as_deref() == Some("cbr"),
            None => wish.rate_control == Some(choir_core::device::RateControl::Constant),
        };
        // A line that a running show carries cannot be joined a second time; the show measures it.
        let running = match (&own, &wish.line) {
            (None, Some(line)) => measure.running(&plan.sheet, line).await,
            _ => None,
        };
        let joined = match (running, own.or_else(by_line)) {
            (Some((url, measured)), _) => Joined { url, measured: Ok(measured) },
            (None, Some(link)) => measure.join(&link, wish).await,
            (None, None) => {
                let why = "its address is not known: add line = \"NAME\" to the stream in the sheet";
                Joined { url: String::new(), measured: Err(why.into()) }
            }
        };
        report.proofs.push(Proof::of(name, joined, wish, constant));
    }
}

/// A stream's link with the device's login.
fn link_of(url: &str, login: Option<(&str, &SecretText)>) -> Option<Link> {
    let mut link = parse_url(url).0?;
    if let (Link::Rtsp(r), Some((user, password))) = (&mut link, login) {
        r.user = Some(user.to_owned());
        r.password = Some(Secret::Literal(password.clone()));
    }
    Some(link)
}

async fn network(plan: &mut Plan, report: &mut Report, progress: Progress<'_>) {
    let (Some(s), Some(wish)) = (&mut plan.session, &plan.device.network) else { return };
    let (fixed, what) = match wish {
        NetworkWish::Dhcp => (None, "dhcp".to_owned()),
        NetworkWish::Static { ip, prefix, gateway } => (Some((*ip, *prefix, *gateway)), format!("{ip}/{prefix}")),
    };
    progress(&report.name, Step::Moving(what.clone()));
    let own = s.at().ip();
    let moved = async {
        if let Some((ip, prefix, gateway)) = fixed.filter(|f| own != f.0) {
            address::free_and_reachable(ip, prefix, gateway).await?;
        }
        address::move_to(s, fixed).await
    };
    match moved.await {
        Ok(ip) => {
            report.done.push(format!("network: {what}"));
            report.moved_to = Some(ip).filter(|ip| *ip != own);
        }
        Err(e) => report.failed = Some(Failed { what: format!("network: {what}"), why: e.to_string() }),
    }
}
