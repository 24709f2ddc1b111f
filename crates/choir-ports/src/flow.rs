//! Which way the media of a way goes, and in which shape.

use crate::{Intake, Outlet, UnitOutlet, WayCause, units_of};
use choir_core::link::Link;
use choir_host::Stop;
use std::sync::Arc;

/// Which way media goes, and between whom. `O` is what goes out: a way that knows one shape only
/// names it.
#[derive(Clone)]
pub enum Flow<O = AnyOutlet> {
    /// In: what comes is pushed there.
    In(Arc<dyn Intake>),
    /// Out: what goes is taken from there.
    Out(O),
}

/// What goes out, in one of the two shapes.
#[derive(Clone)]
pub enum AnyOutlet {
    /// Pieces of a transport stream.
    Ts(Arc<Outlet>),
    /// Access units, for links that send units.
    Units(Arc<UnitOutlet>),
}

impl Flow {
    /// As one of transport streams.
    ///
    /// # Errors
    /// It gives units.
    pub(crate) fn into_ts(self) -> Result<Flow<Arc<Outlet>>, WayCause> {
        match self {
            Self::In(intake) => Ok(Flow::In(intake)),
            Self::Out(AnyOutlet::Ts(outlet)) => Ok(Flow::Out(outlet)),
            Self::Out(AnyOutlet::Units(_)) => Err(WayCause::Shape),
        }
    }
}

impl AnyOutlet {
    /// In the shape that a link sends: RTSP and Stave send units, so that no transport stream is
    /// made for them.
    #[must_use]
    pub fn of(link: &Link) -> Self {
        if matches!(link, Link::Rtsp(_) | Link::Rtmp(_) | Link::Stave(_)) { Self::Units(Outlet::new()) } else { Self::Ts(Outlet::new()) }
    }

    /// Forgets what waits in it.
    pub fn clear(&self) {
        match self {
            Self::Ts(outlet) => drop(outlet.take()),
            Self::Units(outlet) => drop(outlet.take()),
        }
    }

    /// Pieces or units dropped for a full queue.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        match self {
            Self::Ts(outlet) => outlet.dropped(),
            Self::Units(outlet) => outlet.dropped(),
        }
    }

    /// Its units; those of a transport stream are taken out of it until `stop`.
    pub(crate) fn into_units(self, stop: &Stop) -> Arc<UnitOutlet> {
        match self {
            Self::Ts(outlet) => units_of(outlet, stop.clone()),
            Self::Units(outlet) => outlet,
        }
    }
}

impl From<Arc<Outlet>> for AnyOutlet {
    fn from(outlet: Arc<Outlet>) -> Self {
        Self::Ts(outlet)
    }
}

impl From<Arc<UnitOutlet>> for AnyOutlet {
    fn from(outlet: Arc<UnitOutlet>) -> Self {
        Self::Units(outlet)
    }
}
