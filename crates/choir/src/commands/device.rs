//! `choir device`: show, compare, set, move and restart the sheet's devices.

use super::{confirm, folder_of, interrupted, load, read_text, replace_text, which_sheet};
use crate::{
    args::{AddressArgs, Device as What, DeviceArgs},
    exit::{DIFFERS, FAILED, Failure, SYSTEM, USAGE},
    output::{devices, tables},
};
use choir_core::{
    device::{Device, NetworkWish, password_problem},
    secret::{Secret, SecretText},
    sheet::{Sheet, set_address},
    spelling::did_you_mean,
};
use choir_devices::device::{self, Plan, Report, Step};
use choir_host::{Stop, secrets::fetch_text};
use choir_show::prove::OnTheWire;
use crossterm::{
    event::{self, Event, KeyCode, KeyModifiers},
    terminal,
};
use std::{
    io::{IsTerminal, Write, stderr, stdin},
    net::IpAddr,
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};
use tokio::task::JoinSet;

/// A sheet and where it lies.
pub(super) struct Opened {
    pub path: PathBuf,
    pub base: PathBuf,
    sheet: Sheet,
}

impl Opened {
    pub fn at(given: Option<&Path>) -> Result<Self, Failure> {
        let path = which_sheet(given)?;
        let sheet = load(&path, false)?;
        Ok(Self { base: folder_of(&path).to_owned(), path, sheet })
    }

    /// A device by its name.
    pub fn device(&self, name: &str) -> Result<Device, Failure> {
        let names: Vec<&str> = self.sheet.devices.iter().map(|d| d.name.as_str()).collect();
        let found = self.sheet.devices.iter().find(|d| d.name == name).cloned();
        found
            .ok_or_else(|| Failure::new(USAGE, format!("{} has no device \"{name}\". {}", self.path.display(), did_you_mean(name, &names))))
    }

    /// These, or all.
    fn devices(&self, names: &[String]) -> Result<Vec<Device>, Failure> {
        if names.is_empty() {
            if self.sheet.devices.is_empty() {
                return Err(Failure::new(USAGE, format!("{} has no devices: \"choir find --add\" writes them", self.path.display())));
            }
            return Ok(self.sheet.devices.clone());
        }
        names.iter().map(|n| self.device(n)).collect()
    }

    /// Writes a device's new address into the sheet.
    fn moved(&self, name: &str, ip: IpAddr, network: Option<(&str, Option<&str>)>) -> Result<(), Failure> {
        let by_hand = |e: String| Failure::new(FAILED, format!("{name} is at {ip} now, but {}: {e}", self.path.display()));
        let after = set_address(&read_text(&self.path)?, name, ip, network).map_err(|e| by_hand(e.to_string()))?;
        replace_text(&self.path, &after).map_err(|e| by_hand(e.text))?;
        eprintln!("{}: {name} is at {ip}", self.path.display());
        Ok(())
    }
}

pub async fn run(args: DeviceArgs) -> Result<(), Failure> {
    let opened = Opened::at(args.sheet.sheet.as_deref())?;
    match args.what {
        What::Show { name, json } => show(&opened, &name, json).await,
        What::Diff { names, json } => diff(&opened, &names, json).await,
        What::Apply { names, yes, json } => apply(&opened, &names, yes, json).await,
        What::Restart { name, yes } => restart(&opened, &name, yes).await,
        What::Address(a) => address(&opened, &a).await,
        What::Password { name, file } => password(&opened, &name, file).await,
    }
}

/// Ends early on Ctrl-C, where nothing is half done by that.
async fn or_left<T, E: Into<Failure>>(work: impl Future<Output = Result<T, E>>) -> Result<T, Failure> {
    tokio::select! {
        result = work => result.map_err(Into::into),
        () = interrupted() => Err(Failure::new(FAILED, "stopped early; nothing was changed")),
    }
}

async fn show(o: &Opened, name: &str, json: bool) -> Result<(), Failure> {
    let view = or_left(device::look_at(&o.device(name)?, &o.base)).await?;
    if json {
        println!("{}", serde_json::to_string_pretty(&view).unwrap_or_default());
    } else {
        print!("{}", devices::show(&view, tables::width()));
    }
    Ok(())
}

/// Looks at all of them side by side; those that cannot be asked are told and left out.
async fn plans(o: &Opened, names: &[String]) -> Result<(Vec<Plan>, Vec<(String, String)>), Failure> {
    let wanted = o.devices(names)?;
    let order: Vec<String> = wanted.iter().map(|d| d.name.clone()).collect();
    let mut set = JoinSet::new();
    let sheet = Arc::new(o.sheet.clone());
    for d in wanted {
        let (sheet, base) = (sheet.clone(), o.base.clone());
        set.spawn(async move { (d.name.clone(), device::plan(&d, &sheet, &base).await) });
    }
    let (mut good, mut bad) = (Vec::new(), Vec::new());
    while let Some(done) = set.join_next().await {
        match done {
            Ok((_, Ok(plan))) => good.push(plan),
            Ok((name, Err(e))) => bad.push((name, e.to_string())),
            Err(e) => return Err(Failure::new(SYSTEM, e.to_string())),
        }
    }
    let place = |name: &String| order.iter().position(|n| n == name);
    good.sort_by_key(|p| place(&p.device.name));
    bad.sort_by_key(|(n, _)| place(n));
    for (name, why) in &bad {
        eprintln!("{name}: {why}");
    }
    Ok((good, bad))
}

async fn diff(o: &Opened, names: &[String], json: bool) -> Result<(), Failure> {
    let (plans, bad) = or_left(plans(o, names)).await?;
    if json {
        let of =
            |p: &Plan| serde_json::json!({ "name": p.device.name, "differs": p.differs, "impossible": p.impossible, "by_hand": p.by_hand });
        let failed = bad.iter().map(|(name, why)| serde_json::json!({ "name": name, "failed": why }));
        println!("{:#}", serde_json::Value::Array(plans.iter().map(of).chain(failed).collect()));
    } else {
        plans.iter().for_each(|p| print!("{}", devices::plan(p)));
    }
    if !bad.is_empty() {
        return Err(Failure::told(FAILED));
    }
    let same = plans.iter().all(|p| p.differs.is_empty() && p.impossible.is_empty());
    if same { Ok(()) } else { Err(Failure::told(DIFFERS)) }
}

fn step_words(step: &Step) -> String {
    match step {
        Step::Setting(what) => format!("setting {what}"),
        Step::Restarting(what) => format!("it still sends as before ({what}): restarting it"),
        Step::Back(ms) => format!("back after {:.1} s", *ms as f64 / 1000.0),
        Step::ReadingBack => "reading back".into(),
        Step::Proving(stream) => format!("joining its {stream} stream to measure it"),
        Step::Moving(to) => format!("moving it to {to}"),
    }
}

async fn apply(o: &Opened, names: &[String], yes: bool, json: bool) -> Result<(), Failure> {
    let (plans, bad) = or_left(plans(o, names)).await?;
    plans.iter().for_each(|p| eprint!("{}", devices::plan(p)));
    let (able, unable): (Vec<Plan>, Vec<Plan>) = plans.into_iter().partition(|p| p.impossible.is_empty());
    for p in &unable {
        eprintln!("{}: nothing was sent: correct the sheet first", p.device.name);
    }
    let changes = able.iter().filter(|p| !p.differs.is_empty()).count();
    if changes > 0 {
        confirm("Set this? A device that must be is restarted.", yes).await?;
    }
    let (stop_it, stop) = Stop::new();
    let mut set = JoinSet::new();
    for plan in able {
        let (stop, wire) = (stop.clone(), OnTheWire { base: o.base.clone(), stop: stop.clone() });
        set.spawn(async move {
            let name = plan.device.name.clone();
            let tell = |name: &str, step: Step| eprintln!("{name}: {}", step_words(&step));
            (name, device::carry_out(plan, &wire, &tell, &stop).await)
        });
    }
    let mut reports: Vec<Report> = Vec::new();
    let mut unwritten = Vec::new();
    let mut asked_to_end = false;
    while !set.is_empty() {
        tokio::select! {
            Some(done) = set.join_next() => {
                let (name, report) = done.map_err(|e| Failure::new(SYSTEM, e.to_string()))?;
                if let Some(ip) = report.moved_to
                    && let Err(e) = o.moved(&name, ip, None)
                {
                    unwritten.push(e.text);
                }
                reports.push(report);
            }
            () = interrupted() => {
                if asked_to_end {
                    return Err(Failure::new(FAILED, "stopped while setting: \"choir device diff\" shows what was set"));
                }
                asked_to_end = true;
                eprintln!("stopping after the current step; Ctrl-C again stops at once");
                stop_it.now();
            }
        }
    }
    reports.sort_by_key(|r| o.sheet.devices.iter().position(|d| d.name == r.name));
    if json {
        println!("{}", serde_json::to_string_pretty(&reports).unwrap_or_default());
    } else {
        reports.iter().for_each(|r| print!("{}", devices::report(r)));
    }
    unwritten.iter().for_each(|u| eprintln!("choir: {u}"));
    let unproved = |r: &Report| r.failed.is_some() || r.proofs.iter().any(|p| p.measured.is_none());
    if !bad.is_empty() || !unable.is_empty() || !unwritten.is_empty() || reports.iter().any(unproved) {
        return Err(Failure::told(FAILED));
    }
    if reports.iter().all(Report::holds) { Ok(()) } else { Err(Failure::told(DIFFERS)) }
}

async fn restart(o: &Opened, name: &str, yes: bool) -> Result<(), Failure> {
    let mut session = or_left(device::session(&o.device(name)?, &o.base)).await?;
    confirm(&format!("Restart {name}? Its streams stop until it is back."), yes).await?;
    eprintln!("{name}: restarting");
    let gone = tokio::select! {
        gone = device::restart(&mut session) => gone?,
        () = interrupted() => return Err(Failure::new(FAILED, format!("{name} is restarting; it was not waited for"))),
    };
    println!("{name}: back after {:.1} s", gone.as_secs_f64());
    Ok(())
}

async fn address(o: &Opened, a: &AddressArgs) -> Result<(), Failure> {
    let d = o.device(&a.name)?;
    let fixed = a.fixed.map(|(ip, prefix)| (ip, prefix, a.gateway));
    let mut session = or_left(device::session(&d, &o.base)).await?;
    if let Some((ip, prefix, gateway)) = fixed.filter(|f| d.address != IpAddr::V4(f.0)) {
        eprintln!("asking whether {ip} is free");
        or_left(async { device::free_and_reachable(ip, prefix, gateway).await.map_err(device::DeviceError::from) }).await?;
    }
    let to = fixed.map_or_else(|| "an address from DHCP".into(), |(ip, p, _)| format!("{ip}/{p}"));
    confirm(&format!("Give {} {to}? It is at {} now.", a.name, d.address), a.yes).await?;
    eprintln!("{}: moving to {to}", a.name);
    let ip = tokio::select! {
        ip = device::move_to(&mut session, fixed) => ip?,
        () = interrupted() => {
            return Err(Failure::new(FAILED, format!("{} was told to move to {to}. Nobody waited for it, and the sheet still has the old address", a.name)));
        }
    };
    // A wish that contradicts the order would undo it at the next apply.
    let (text, gateway) = (fixed.map_or_else(String::new, |(ip, p, _)| format!("{ip}/{p}")), a.gateway.map(|g| g.to_string()));
    let contradicts = match (&d.network, fixed) {
        (None, _) | (Some(NetworkWish::Dhcp), None) => false,
        (Some(NetworkWish::Static { ip, prefix, .. }), Some((to, p, _))) => (*ip, *prefix) != (to, p),
        _ => true,
    };
    o.moved(&a.name, ip, contradicts.then_some((text.as_str(), gateway.as_deref())))?;
    println!("{}: at {ip}", a.name);
    Ok(())
}

async fn password(o: &Opened, name: &str, file: Option<PathBuf>) -> Result<(), Failure> {
    let d = o.device(name)?;
    let user =
        d.user.clone().ok_or_else(|| Failure::new(USAGE, format!("device \"{name}\" has no user in the sheet: add user = \"NAME\"")))?;
    let new = match &file {
        Some(path) => fetch_text(&Secret::File(path.clone()), Path::new(".")).map_err(|e| Failure::new(SYSTEM, e.to_string()))?,
        None => ask_password(name, &user)?,
    };
    if let Some(problem) = password_problem(&user, new.reveal()) {
        return Err(Failure::new(USAGE, problem));
    }
    let mut session = or_left(device::session_to_change(&d, &o.base)).await?;
    device::change_password(&mut session, new.reveal()).await?;
    println!("{name}: the new password of {user} applies");
    match (&d.password, &file) {
        (Some(Secret::File(old)), Some(new)) if std::path::absolute(o.base.join(old)).ok() == std::path::absolute(new).ok() => {}
        (Some(Secret::File(path)), _) => eprintln!("Put it into {} too: the sheet reads it there.", o.base.join(path).display()),
        (Some(Secret::Env(variable)), _) => eprintln!("Set the variable {variable} to it: the sheet reads it there."),
        _ => eprintln!("Add password = {{ file = \"PATH\" }} to the device's entry, and put it there."),
    }
    Ok(())
}

/// Reads a password twice without showing it.
fn ask_password(name: &str, user: &str) -> Result<SecretText, Failure> {
    if !stdin().is_terminal() {
        return Err(Failure::new(USAGE, "no terminal to ask on: add --file PATH, with the new password in its first line"));
    }
    // Hidden before the question is seen, and between the two: whoever types quickly is not shown.
    struct Raw;
    impl Drop for Raw {
        fn drop(&mut self) {
            let _ = terminal::disable_raw_mode();
        }
    }
    terminal::enable_raw_mode()?;
    let _raw = Raw;
    let first = hidden_line(&format!("New password of {user} on {name}: "))?;
    let second = hidden_line("Once more: ")?;
    if first.reveal() != second.reveal() {
        return Err(Failure::new(USAGE, "the two differ: nothing was changed"));
    }
    Ok(first)
}

/// Reads a line of a terminal that shows nothing of it.
fn hidden_line(question: &str) -> Result<SecretText, Failure> {
    struct Line;
    impl Drop for Line {
        fn drop(&mut self) {
            eprint!("\r\n");
        }
    }
    eprint!("{question}");
    let _ = stderr().flush();
    let _line = Line;
    let mut text = String::new();
    loop {
        if !event::poll(Duration::from_secs(300))? {
            return Err(Failure::new(FAILED, "nothing was typed for five minutes: nothing was changed"));
        }
        let Event::Key(key) = event::read()? else { continue };
        match key.code {
            KeyCode::Enter => return Ok(SecretText::new(std::mem::take(&mut text))),
            KeyCode::Backspace => drop(text.pop()),
            KeyCode::Char('c' | 'd') if key.modifiers.contains(KeyModifiers::CONTROL) => {
                return Err(Failure::new(FAILED, "nothing was changed"));
            }
            KeyCode::Char(c) => text.push(c),
            _ => {}
        }
    }
}
