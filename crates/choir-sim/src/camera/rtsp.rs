//! A camera that is pulled: a full RTSP server with a main and a sub stream, and its bad manners.

use super::{
    CameraSettings, Frames, Head,
    manners::{Counts, Manner, options},
    play,
};
use crate::SimError;
use choir_host::Stop;
use choir_ports::{LinkStatus, Outlet, ServePlan, spawn_server, units_of};
use choir_proto::rtsp::Credentials;
use futures_core::future::BoxFuture;
use std::{
    net::{IpAddr, SocketAddr},
    sync::Arc,
};
use tokio::task::JoinHandle;

/// What an RTSP camera is to be.
#[derive(Debug, Clone)]
pub struct RtspCameraSettings {
    /// Where it waits to be asked.
    pub listen: SocketAddr,
    /// The picture under `/main`; its way out is not used.
    pub main: CameraSettings,
    /// The picture under `/sub`.
    pub sub: Option<CameraSettings>,
    /// Who may look.
    pub credentials: Option<Credentials>,
    /// Group and first port of the main stream; the sub stream's is ten ports on.
    pub group: Option<(IpAddr, u16)>,
    /// What it does wrong.
    pub manners: Vec<Manner>,
    /// Where it looks, when it can turn.
    pub head: Option<Arc<Head>>,
}

/// A running camera.
pub struct RtspCamera {
    /// Where it waits.
    pub addr: SocketAddr,
    /// How each stream stands: main, sub.
    pub statuses: Vec<Arc<LinkStatus>>,
    /// What it has been asked.
    pub counts: Arc<Counts>,
    tasks: Vec<JoinHandle<()>>,
}

impl RtspCamera {
    /// Waits until it has stopped.
    pub async fn wait(self) {
        for task in self.tasks {
            let _ = task.await;
        }
    }
}

/// Encodes its loops and waits to be asked.
///
/// # Errors
/// The encoder refuses a size, or the address cannot be had.
pub fn start_rtsp(settings: RtspCameraSettings, stop: Stop) -> BoxFuture<'static, Result<RtspCamera, SimError>> {
    Box::pin(async move {
        let RtspCameraSettings { listen, main, sub, credentials, group, manners, head } = settings;
        let who = main.name.clone();
        let counts = Arc::new(Counts::default());
        let mut plans = Vec::new();
        let mut players = Vec::new();
        let mut statuses = Vec::new();
        for (n, (path, mut picture)) in [("main", Some(main)), ("sub", sub)].into_iter().filter_map(|(p, s)| Some((p, s?))).enumerate() {
            picture.constant = false;
            let (outlet, status) = (Outlet::new(), LinkStatus::new());
            let frames = Frames::of(&picture, head.as_ref(), &status).await?;
            plans.push(ServePlan {
                path: path.into(),
                credentials: credentials.clone().filter(|_| !manners.iter().any(Manner::asks_itself)),
                group: group.map(|(ip, port)| (ip, port + 10 * n as u16)),
                interface: Some(listen.ip()).filter(|ip| !ip.is_unspecified()),
                ttl: None,
                outlet: units_of(outlet.clone(), stop.clone()),
                status: status.clone(),
            });
            statuses.push(status);
            players.push((picture, frames, outlet));
        }
        let options = options(&manners, credentials, &counts);
        let (addr, mut tasks) =
            spawn_server(listen, plans, options, &stop).map_err(|cause| SimError::Address { who, addr: listen, cause })?;
        tasks.extend(players.into_iter().map(|(picture, frames, outlet)| tokio::spawn(play(picture, frames, outlet, false, stop.clone()))));
        Ok(RtspCamera { addr, statuses, counts, tasks })
    })
}
