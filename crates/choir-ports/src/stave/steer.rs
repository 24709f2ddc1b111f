//! Steering a camera by the name of its source: orders go to the source's machine, which passes
//! them on.

use super::{
    node::Node,
    take::{Order, TakePlan, spawn_take},
};
use crate::LinkStatus;
use choir_core::{facts::Contact, link::StaveLink};
use choir_host::Stop;
use choir_proto::stave::CameraVerb;
use std::{net::IpAddr, sync::Arc, time::Duration};
use tokio::sync::{mpsc, oneshot};

/// From order to answer, finding the source included.
const ANSWER: Duration = Duration::from_secs(6);

/// Why an order was not carried out.
#[derive(Debug, thiserror::Error)]
pub enum SteerError {
    /// The source's machine says why not.
    #[error("\"{name}\": {why}")]
    Refused {
        /// The source.
        name: String,
        /// Its words.
        why: String,
    },
    /// No answer.
    #[error("\"{name}\" does not answer: {why}")]
    Silent {
        /// The source.
        name: String,
        /// How the connection stands.
        why: String,
    },
}

/// A camera that is known by the name of its source.
pub struct NamedCamera {
    name: String,
    orders: mpsc::Sender<Order>,
    status: Arc<LinkStatus>,
}

impl NamedCamera {
    /// Seeks the source until `stop`. Its pictures are not asked for. `pins` are the only
    /// certificates that it may have, empty allows any.
    #[must_use]
    pub fn seek(node: &Node, link: StaveLink, pins: Vec<String>, interface: Option<IpAddr>, stop: &Stop) -> Self {
        let (orders, taken) = mpsc::channel(4);
        let (name, status) = (link.name.clone(), LinkStatus::new());
        let plan = TakePlan { pins, interface, orders: Some(taken), ..TakePlan::of(node, link, status.clone()) };
        spawn_take(plan, stop.clone());
        Self { name, orders, status }
    }

    /// The source's name.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Gives an order, and waits for its answer.
    ///
    /// # Errors
    /// See [`SteerError`].
    pub async fn order(&self, verb: CameraVerb) -> Result<(), SteerError> {
        let (tell, told) = oneshot::channel();
        let answered = tokio::time::timeout(ANSWER, async {
            self.orders.send((verb, tell)).await.ok()?;
            told.await.ok()
        });
        match answered.await {
            Ok(Some(answer)) if answer.done => Ok(()),
            Ok(Some(answer)) => Err(SteerError::Refused { name: self.name.clone(), why: super::plain_name(&answer.why) }),
            _ => Err(SteerError::Silent { name: self.name.clone(), why: words(self.status.look().contact) }),
        }
    }
}

fn words(contact: Contact) -> String {
    match contact {
        Contact::Waiting(what) => what.to_string(),
        Contact::Lost(why) => why.to_string(),
        Contact::Joining(_) | Contact::Up | Contact::Held => {
            format!("its machine did not answer the order within {} s", ANSWER.as_secs())
        }
    }
}
