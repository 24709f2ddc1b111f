//! What the keys of the sheet do.

use crate::{ptz::Ptz, show::Show};
use choir_core::{
    command::{By, Command, Done, Refusal},
    facts::EventKind,
    id::Subject,
    model::Order,
};
use choir_devices::device::credentials_of;
use choir_host::lock;

impl Show {
    /// What a key does in this show.
    ///
    /// # Errors
    /// It does nothing, or what it names is gone.
    pub fn key_named(&self, key: &str) -> Result<Command, Refusal> {
        let orders = lock(&self.0.sheet).keys.clone();
        let order = orders.into_iter().find(|k| k.key == key).ok_or_else(|| Refusal::NoKey(key.to_owned()))?.order;
        Ok(match order {
            Order::Take { feed, line } => self.take_named(&feed, line.as_deref())?,
            Order::Next { feed, line } => self.next_named(&feed, &line)?,
            Order::Rota { name, order } => Command::Rota { name, order },
            Order::Wall { wall, line } => self.wall_named(&wall, line.as_deref())?,
            Order::Preset { device, preset } => Command::Preset { device, preset },
        })
    }

    /// Puts a line on a feed; without one, what comes next.
    ///
    /// # Errors
    /// There is no such feed or line.
    pub fn take_named(&self, feed: &str, line: Option<&str>) -> Result<Command, Refusal> {
        let feed = self.feed_named(feed)?;
        Ok(line.map(|l| self.line_named(l)).transpose()?.map_or(Command::Swap { feed }, |line| Command::Take { feed, line }))
    }

    /// Says what comes next on a feed.
    ///
    /// # Errors
    /// There is no such feed or line.
    pub fn next_named(&self, feed: &str, line: &str) -> Result<Command, Refusal> {
        Ok(Command::Preview { feed: self.feed_named(feed)?, line: self.line_named(line)? })
    }

    /// Shows a line alone on a wall, or all of its lines.
    ///
    /// # Errors
    /// There is no such line.
    pub fn wall_named(&self, wall: &str, line: Option<&str>) -> Result<Command, Refusal> {
        Ok(Command::Wall { wall: self.line_named(wall)?, full: line.map(|l| self.line_named(l)).transpose()? })
    }

    /// Sends a camera of the sheet to a preset.
    pub(crate) async fn go_to_preset(&self, by: By, device: String, preset: String) -> Result<Done, Refusal> {
        let entry = lock(&self.0.sheet).devices.iter().find(|d| d.name == device).cloned().ok_or(Refusal::Removed)?;
        let failed = |why: String| Refusal::Camera { device: device.clone(), why };
        let credentials = credentials_of(&entry, &self.0.base).map_err(|e| failed(e.to_string()))?;
        let ptz = Ptz::open(&entry, entry.control, credentials).await.map_err(|e| failed(e.to_string()))?;
        ptz.goto(&preset).await.map_err(|e| failed(e.to_string()))?;
        self.0.bus.event(Subject::Show, EventKind::Preset { device: device.clone(), preset: preset.clone(), by });
        Ok(Done::Preset { device, preset })
    }
}
