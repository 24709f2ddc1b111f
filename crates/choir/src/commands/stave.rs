//! `choir stave`: names on the LAN, and the directory for networks without multicast.

use super::{folder_of, interrupted, load, until_stopped};
use crate::{
    args::{DirectoryArgs, LanArgs, LanFlags, ListArgs, Stave, StaveArgs},
    exit::{FAILED, Failure},
    output::{names, plural, redraw::Redraw},
};
use choir_core::{secret::Secret, stave::StaveSettings, view::NodeView};
use choir_host::Stop;
use choir_ports::stave::{Directory, Identity, Node, NodePlan, Roster, serve_directory};
use choir_proto::stave::NodeEntry;
use std::{
    collections::BTreeMap,
    net::Ipv4Addr,
    path::{Path, PathBuf},
};

pub async fn run(args: StaveArgs) -> Result<(), Failure> {
    match args.what {
        Stave::List(a) => list(a).await,
        Stave::Directory(a) => directory(a).await,
        Stave::Identity => {
            println!("{}", Identity::of_machine()?.fingerprint());
            Ok(())
        }
    }
}

impl LanFlags {
    /// The settings with what is said on the command line.
    pub fn over(&self, mut s: StaveSettings) -> Result<StaveSettings, Failure> {
        if let Some(group) = &self.group {
            s.group.clone_from(group);
        }
        if let Some(name) = &self.key_env {
            s.key = Some(Secret::Env(name.clone()));
        }
        if let Some(path) = &self.key_file {
            // Of the command line: from where it is typed.
            s.key = Some(Secret::File(std::path::absolute(path)?));
        }
        s.address = self.on.or(s.address);
        s.nodes.extend(&self.node);
        s.directory = self.directory.or(s.directory);
        s.discover &= !self.no_discover;
        Ok(s)
    }
}

impl LanArgs {
    /// The settings, and the folder that their paths count from.
    pub fn settings(&self) -> Result<(StaveSettings, PathBuf), Failure> {
        let (s, base) = match &self.sheet {
            Some(path) => (load(path, false)?.stave, folder_of(path).to_owned()),
            None => (StaveSettings::default(), PathBuf::from(".")),
        };
        Ok((self.own.over(s)?, base))
    }

    /// As [`Self::settings`], for a stand-in: they stay on this machine unless they are told
    /// otherwise.
    pub fn at_home(&self) -> Result<(StaveSettings, PathBuf), Failure> {
        let (mut settings, base) = self.settings()?;
        settings.address.get_or_insert(Ipv4Addr::LOCALHOST.into());
        Ok((settings, base))
    }
}

/// A node that seeks, and is not to be found itself.
pub async fn seeker(settings: &StaveSettings, base: &Path, what: &str, stop: &Stop) -> Result<Node, Failure> {
    // Its own port may be in use by a show on this machine.
    let settings = StaveSettings { port: None, ..settings.clone() };
    let what = format!("{what} {}", std::process::id());
    Ok(Node::join(&settings, Identity::of_machine()?, base, &what, false, stop).await?)
}

async fn list(args: ListArgs) -> Result<(), Failure> {
    let (end, stop) = Stop::new();
    let (settings, base) = args.lan.settings()?;
    let node = seeker(&settings, &base, "list", &stop).await?;
    let Some(roster) = node.roster() else { return Ok(()) };
    if args.watch {
        watch(&roster).await;
    } else {
        until_stopped(Some(args.for_time)).await;
    }
    let nodes = roster.view();
    let (alone, groups) = (roster.has_no_network(), roster.other_groups());
    end.now();
    node.ended().await;
    if args.json {
        println!("{}", serde_json::to_string_pretty(&nodes).unwrap_or_default());
    } else {
        print!("{}", names::table(&nodes, crate::output::tables::width()));
    }
    closed(&nodes).into_iter().for_each(|why| eprintln!("{why}"));
    if nodes.iter().any(|n| !n.names.is_empty()) {
        return Ok(());
    }
    let others = || format!("no names in this group; other groups here: {}", groups.join(", "));
    Err(Failure::new(
        FAILED,
        match (alone, groups.is_empty()) {
            (true, _) => "no network interface is up: name one of this machine's addresses with --on".into(),
            (false, false) => others(),
            (false, true) => "nobody offers a name".to_owned(),
        },
    ))
}

/// Machines that are there and cannot be queried.
fn closed(nodes: &[NodeView]) -> Vec<String> {
    let shut = nodes.iter().filter(|n| !n.open && !n.why.is_empty());
    shut.map(|n| format!("cannot query {}: {}", names::called(n), n.why)).collect()
}

async fn watch(roster: &Roster) {
    let mut block = Redraw::new();
    let mut bell = roster.bell();
    let left = interrupted();
    tokio::pin!(left);
    loop {
        let nodes = roster.view();
        block.draw(
            |width| closed(&nodes).into_iter().fold(names::table(&nodes, width), |all, why| format!("{all}{why}\n")),
            "Ctrl-C ends it",
        );
        tokio::select! {
            _ = bell.changed() => {}
            () = &mut left => return,
        }
    }
}

async fn directory(args: DirectoryArgs) -> Result<(), Failure> {
    let (settings, base) = args.lan.settings()?;
    let settings = StaveSettings { port: Some(args.port), ..settings };
    let (end, stop) = Stop::new();
    let plan = NodePlan::of(&settings, Identity::of_machine()?, &base, "directory")?;
    let Directory { node, mut nodes } = serve_directory(plan, &stop).await?;
    eprintln!("directory of the group \"{}\" at {}, {}", settings.group, node.at(), settings.secured());
    let mut known: BTreeMap<u64, NodeEntry> = BTreeMap::new();
    let left = until_stopped(args.for_time);
    tokio::pin!(left);
    let mut met = 0;
    loop {
        tokio::select! {
            changed = nodes.changed() => if changed.is_err() { break },
            () = &mut left => break,
        }
        let now = nodes.borrow_and_update().clone();
        for (_, entry) in now.iter().filter(|(k, v)| known.get(k) != Some(v)) {
            met += usize::from(known.values().all(|e| e.node != entry.node));
            let at: Vec<String> = entry.at.iter().map(ToString::to_string).collect();
            println!("{} is here, at {}", names::plain(&entry.machine), at.join(" and "));
        }
        for (_, entry) in known.iter().filter(|(k, _)| !now.contains_key(k)) {
            println!("{} has gone", names::plain(&entry.machine));
        }
        known = now;
    }
    end.now();
    node.ended().await;
    eprintln!("{} were here, {} in the end", plural(met, "node"), known.len());
    Ok(())
}
