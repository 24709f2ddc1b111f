//! The units of a transport stream, for ways out that take units.

use crate::{Outlet, UnitOutlet};
use choir_host::{Stop, clock::steady_us};
use choir_proto::ts::{Depth, TsReader};
use std::{collections::VecDeque, sync::Arc};

/// Takes a transport stream apart as long as it is not stopped; its units come out of the outlet
/// that it gives.
#[must_use]
pub fn units_of(from: Arc<Outlet>, mut stop: Stop) -> Arc<UnitOutlet> {
    let units = UnitOutlet::new();
    let to = units.clone();
    tokio::spawn(async move {
        let (mut reader, mut taken) = (TsReader::new(Depth::Units), VecDeque::new());
        loop {
            tokio::select! {
                () = from.filled() => {}
                () = stop.wait() => return,
            }
            let ended = from.has_ended();
            from.take_into(&mut taken);
            for piece in taken.drain(..) {
                reader.push(steady_us(), &piece);
                while let Some(unit) = reader.poll_unit() {
                    to.push(unit);
                }
            }
            if ended {
                return to.end();
            }
        }
    });
    units
}
