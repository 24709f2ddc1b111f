//! Lines and feeds as the media sees them: no task of their own, called on the task of the way in.

mod feed;
mod line;

pub use feed::{FeedMedia, FeedOutlet, FeedReading};
pub use line::{LineMedia, LineReading};

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use choir_core::id::LineId;
    use choir_ports::{Arrival, Intake as _, Media, Outlet, UnitOutlet};
    use choir_proto::ts::{StreamKind, Timed, TimedUnit, UnitFormat};
    use std::{sync::Arc, time::Instant};

    #[test]
    fn a_feed_carries_its_line_and_no_other() {
        let outlet = Outlet::new();
        let feed = FeedMedia::new(Some(LineId(1)), Arc::default());
        feed.add_out(FeedOutlet::Ts(outlet.clone()));
        let lines = [LineMedia::new(LineId(0)), LineMedia::new(LineId(1))];
        lines.iter().for_each(|l| l.attach(feed.clone()));
        let packet = || Arrival::ts(1, Instant::now(), vec![0x47; 188].into());
        lines[0].arrive(&mut vec![packet()]);
        assert_eq!(feed.reading(), FeedReading { on: None, wanted: Some(LineId(1)), takes: 0, waits: None });
        lines[1].arrive(&mut vec![packet()]);
        assert_eq!(feed.reading(), FeedReading { on: Some(LineId(1)), wanted: Some(LineId(1)), takes: 0, waits: None });
        assert_eq!(lines[1].reading().bytes, 188);
    }

    /// A picture of a source that comes in units; `n` counts from the keyframe.
    fn picture(format: &Arc<UnitFormat>, n: u64) -> Arrival {
        let pieces = vec![Bytes::from_static(&[0, 0, 0, 1, 0x65]), Bytes::from(vec![n as u8; 500])];
        let unit = TimedUnit { kind: StreamKind::H264, pts: 900_000 + n * 3600, dts: None, keyframe: n == 0, pieces };
        let timed = Timed { clock: (900_000 + n * 3600) * 300, jump: false, unit: Some(unit) };
        Arrival::new(1, Instant::now(), Media::Units(format.clone(), timed))
    }

    #[test]
    fn the_shape_that_nobody_wants_is_not_made() {
        let format = Arc::new(UnitFormat { streams: vec![StreamKind::H264] });
        let (line, feed) = (LineMedia::new(LineId(0)), FeedMedia::new(Some(LineId(0)), Arc::default()));
        let (units, ts) = (UnitOutlet::new(), Outlet::new());
        feed.add_out(FeedOutlet::Units(units.clone()));
        line.attach(feed.clone());
        line.arrive(&mut vec![picture(&format, 0), picture(&format, 1)]);
        let taken = units.take();
        assert_eq!(
            taken.iter().map(|u| (u.pts, u.keyframe, u.data.len())).collect::<Vec<_>>(),
            [(Some(900_000), true, 505), (Some(903_600), false, 505)]
        );
        assert_eq!((feed.reading().on, line.packets_made()), (Some(LineId(0)), 0), "no transport stream is made for that");
        assert_eq!(line.reading().info.video.map(|v| v.frames), Some(2));
        // Somebody wants one: it is made from then on, beside the units.
        let out = FeedOutlet::Ts(ts.clone());
        feed.add_out(out.clone());
        line.arrive(&mut vec![picture(&format, 2)]);
        assert!(ts.take().iter().all(|p| p.len().is_multiple_of(188)) && line.packets_made() > 0 && units.take().len() == 1);
        let made = line.packets_made();
        feed.remove_out(&out);
        line.arrive(&mut vec![picture(&format, 3)]);
        assert_eq!((line.packets_made(), units.take().len(), ts.take().len()), (made, 1, 0));
    }
}
