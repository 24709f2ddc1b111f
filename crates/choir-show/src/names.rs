//! Which name belongs to which number. Numbers are never used again, so that what is told of the
//! past keeps its names.

use choir_core::{
    command::Refusal,
    id::{DeviceId, FeedId, LineId, NetworkId, OutId, Subject},
    spelling::did_you_mean,
    words,
};
use choir_host::lock;
use std::sync::Mutex;

#[derive(Default)]
pub(crate) struct Names(Mutex<All>);

#[derive(Default)]
struct All {
    lines: Vec<Named>,
    feeds: Vec<Named>,
    /// The feed of each way out.
    outs: Vec<FeedId>,
    networks: Vec<String>,
}

struct Named {
    name: String,
    here: bool,
}

fn add(all: &mut Vec<Named>, name: &str) -> u32 {
    all.push(Named { name: name.to_owned(), here: true });
    (all.len() - 1) as u32
}

fn find(all: &[Named], name: &str) -> Result<u32, String> {
    let place = all.iter().position(|n| n.here && n.name == name);
    place.map(|n| n as u32).ok_or_else(|| {
        let names: Vec<&str> = all.iter().filter(|n| n.here).map(|n| n.name.as_str()).collect();
        did_you_mean(name, &names)
    })
}

fn name_of(all: &[Named], id: u32) -> String {
    all.get(id as usize).map(|n| n.name.clone()).unwrap_or_default()
}

impl Names {
    pub fn add_line(&self, name: &str) -> LineId {
        LineId(add(&mut lock(&self.0).lines, name))
    }

    /// A line that no sheet has: it has a name, and is not found by it.
    pub fn add_unlisted(&self, name: &str) -> LineId {
        let id = self.add_line(name);
        self.remove_line(id);
        id
    }

    pub fn add_feed(&self, name: &str) -> FeedId {
        FeedId(add(&mut lock(&self.0).feeds, name))
    }

    pub fn add_out(&self, feed: FeedId) -> OutId {
        let mut all = lock(&self.0);
        all.outs.push(feed);
        OutId((all.outs.len() - 1) as u32)
    }

    /// A network's number, which it gets when it is first asked for.
    pub fn network(&self, name: &str) -> NetworkId {
        let networks = &mut lock(&self.0).networks;
        let at = networks.iter().position(|n| n == name).unwrap_or_else(|| {
            networks.push(name.to_owned());
            networks.len() - 1
        });
        NetworkId(at as u32)
    }

    pub fn remove_line(&self, id: LineId) {
        lock(&self.0).lines.get_mut(id.0 as usize).into_iter().for_each(|n| n.here = false);
    }

    pub fn remove_feed(&self, id: FeedId) {
        lock(&self.0).feeds.get_mut(id.0 as usize).into_iter().for_each(|n| n.here = false);
    }

    pub fn find_line(&self, name: &str) -> Result<LineId, Refusal> {
        find(&lock(&self.0).lines, name).map(LineId).map_err(|hint| Refusal::NoLine { name: name.to_owned(), hint })
    }

    /// The line of this name, else the feed.
    pub fn find_subject(&self, name: &str) -> Result<Subject, Refusal> {
        self.find_line(name).map(Subject::Line).or_else(|unknown| self.find_feed(name).map(Subject::Feed).map_err(|_| unknown))
    }

    pub fn find_feed(&self, name: &str) -> Result<FeedId, Refusal> {
        find(&lock(&self.0).feeds, name).map(FeedId).map_err(|hint| Refusal::NoFeed { name: name.to_owned(), hint })
    }
}

impl words::Names for Names {
    fn line(&self, id: LineId) -> String {
        name_of(&lock(&self.0).lines, id.0)
    }

    fn feed(&self, id: FeedId) -> String {
        name_of(&lock(&self.0).feeds, id.0)
    }

    fn out(&self, id: OutId) -> String {
        let all = lock(&self.0);
        all.outs.get(id.0 as usize).map(|feed| name_of(&all.feeds, feed.0)).unwrap_or_default()
    }

    fn device(&self, id: DeviceId) -> String {
        format!("{}", id.0)
    }

    fn network(&self, id: NetworkId) -> String {
        lock(&self.0).networks.get(id.0 as usize).cloned().unwrap_or_default()
    }
}
