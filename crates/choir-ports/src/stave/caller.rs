//! What this machine calls other nodes by, and says of itself.

use choir_host::lock;
use choir_proto::stave::{Hello, NodeEntry, SharedKey, VERSION};
use quinn::Endpoint;
use std::{
    net::SocketAddr,
    sync::{Arc, Mutex},
};

/// Clones are the same caller.
#[derive(Clone)]
pub(super) struct Caller(Arc<Inner>);

struct Inner {
    endpoint: Endpoint,
    at: SocketAddr,
    machine: Mutex<String>,
    number: String,
    boot: u64,
    group: String,
    key: Option<SharedKey>,
}

impl Caller {
    /// By an endpoint that is open at `at`.
    pub fn new(endpoint: Endpoint, at: SocketAddr, hello: Hello, key: Option<SharedKey>) -> Self {
        let Hello { machine, node: number, boot, group, .. } = hello;
        Self(Arc::new(Inner { endpoint, at, machine: Mutex::new(machine), number, boot, group, key }))
    }

    pub fn endpoint(&self) -> &Endpoint {
        &self.0.endpoint
    }

    pub fn at(&self) -> SocketAddr {
        self.0.at
    }

    pub fn key(&self) -> Option<SharedKey> {
        self.0.key.clone()
    }

    pub fn group(&self) -> &str {
        &self.0.group
    }

    /// The machine's name, as others see it.
    pub fn machine(&self) -> String {
        lock(&self.0.machine).clone()
    }

    /// It is called otherwise from now on; gives the name before.
    pub fn rename(&self, name: &str) -> String {
        std::mem::replace(&mut *lock(&self.0.machine), name.to_owned())
    }

    pub fn hello(&self) -> Hello {
        Hello {
            versions: vec![VERSION],
            machine: self.machine(),
            node: self.0.number.clone(),
            boot: self.0.boot,
            group: self.0.group.clone(),
            features: ["camera", "multicast", "h264", "h265"].map(str::to_owned).to_vec(),
            proof: None,
        }
    }

    /// What it says of itself.
    pub fn entry(&self) -> NodeEntry {
        let Hello { machine, node, boot, group, .. } = self.hello();
        NodeEntry { machine, node, boot, group, at: vec![self.0.at] }
    }
}
