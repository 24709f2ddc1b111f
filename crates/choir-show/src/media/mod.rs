//! Lines and feeds as the media sees them: no task of their own, called on the task of the way in.

mod clock;
mod compose;
mod feed;
mod line;

pub(crate) use clock::OwnClock;
pub use compose::{SoundChoice, SoundFrom};
pub use feed::{FeedMedia, FeedReading};
pub use line::{KeptFor, LineMedia, LineReading, RecentSent};

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use choir_core::id::LineId;
    use choir_ports::{AnyOutlet, Arrival, Intake as _, Media, Outlet, UnitOutlet};
    use choir_proto::ts::{Origin, StreamKind, Timed, TimedUnit, TsChecker, TsFault, TsWriter, Unit, UnitFormat, WriterConfig};
    use std::{
        sync::Arc,
        time::{Duration, Instant},
    };

    #[test]
    fn a_feed_carries_its_line_and_no_other() {
        let outlet = Outlet::new();
        let feed = FeedMedia::new(Some(LineId(1)), Arc::default());
        feed.add_out(AnyOutlet::Ts(outlet.clone()));
        let lines = [LineMedia::new(LineId(0)), LineMedia::new(LineId(1))];
        lines.iter().for_each(|l| l.attach(feed.clone()));
        let packet = || Arrival::ts(1, Instant::now(), vec![0x47; 188].into());
        lines[0].arrive(&mut vec![packet()]);
        assert_eq!(feed.reading(), FeedReading { on: None, wanted: Some(LineId(1)), takes: 0, waits: None, gap: Duration::ZERO });
        lines[1].arrive(&mut vec![packet()]);
        assert_eq!(
            feed.reading(),
            FeedReading { on: Some(LineId(1)), wanted: Some(LineId(1)), takes: 0, waits: None, gap: Duration::ZERO }
        );
        assert_eq!(lines[1].reading().bytes, 188);
    }

    #[test]
    fn a_repeating_file_is_not_silent_between_two_rounds_and_a_source_that_connects_again_is() {
        let line = LineMedia::new(LineId(0));
        let came = Instant::now();
        assert_eq!(line.reading().quiet(1, came), None, "nothing has come at all");
        line.arrive(&mut vec![Arrival::new(1, came, Media::Ts(vec![0x47; 188].into()))]);
        let quiet = |sessions, ms| line.reading().quiet(sessions, came + Duration::from_millis(ms));
        assert_eq!(quiet(1, 40), Some(Duration::from_millis(40)));
        assert_eq!(quiet(2, 40), Some(Duration::from_millis(40)), "its next round begins in a moment");
        assert_eq!((quiet(1, 9000), quiet(2, 9000)), (Some(Duration::from_secs(9)), None));
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
        feed.add_out(units.clone().into());
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
        let out = AnyOutlet::Ts(ts.clone());
        feed.add_out(out.clone());
        line.arrive(&mut vec![picture(&format, 2)]);
        assert!(ts.take().iter().all(|p| p.len().is_multiple_of(188)) && line.packets_made() > 0 && units.take().len() == 1);
        let made = line.packets_made();
        feed.remove_out(&out);
        line.arrive(&mut vec![picture(&format, 3)]);
        assert_eq!((line.packets_made(), units.take().len(), ts.take().len()), (made, 1, 0));
    }

    /// Two lines that a feed may carry, and what makes their transport streams.
    struct Lines {
        lines: [Arc<LineMedia>; 2],
        writers: [TsWriter; 2],
        start: Instant,
    }

    impl Lines {
        fn of(feed: &Arc<FeedMedia>) -> Self {
            let lines = [LineMedia::new(LineId(0)), LineMedia::new(LineId(1))];
            lines.iter().for_each(|l| l.attach(feed.clone()));
            let writers = [0, 1].map(|_| TsWriter::new(WriterConfig { audio: None, ..WriterConfig::default() }));
            Self { lines, writers, start: Instant::now() }
        }

        /// Picture `n` of a line, shown as the `shown`-th.
        fn picture(&mut self, line: usize, n: u64, shown: u64) -> Vec<u8> {
            let sets = [0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80];
            let head = [0, 0, 0, 1, if n == 0 { 0x65 } else { 0x41 }, 0x88];
            let data = [if n == 0 { &sets[..] } else { &[] }, &head, &[10 * line as u8 + n as u8; 400]].concat();
            let (pts, dts) = (900_000 + (shown + 1) * 3600, Some(900_000 + n * 3600));
            let mut out = Vec::new();
            self.writers[line].write(&Unit { video: true, pts, dts, keyframe: n == 0, data: &[&data] }, &mut out);
            out
        }

        /// It comes at this ms.
        fn come(&self, line: usize, ms: u64, packets: &[u8]) {
            let at = self.start + Duration::from_millis(ms);
            self.lines[line].arrive(&mut vec![Arrival::ts(1, at, Bytes::copy_from_slice(packets))]);
        }

        fn push(&mut self, line: usize, n: u64, shown: u64, ms: u64) {
            let picture = self.picture(line, n, shown);
            self.come(line, ms, &picture);
        }
    }

    #[test]
    fn a_take_back_while_the_old_line_closes_loses_nothing_of_the_new_one() {
        let feed = FeedMedia::new(Some(LineId(0)), Arc::default());
        let ts = Outlet::new();
        feed.add_out(AnyOutlet::Ts(ts.clone()));
        let mut lines = Lines::of(&feed);
        (0..3).for_each(|n| lines.push(0, n, n, n * 40));
        let open = lines.picture(0, 3, 3);
        let (begins, ends) = open.split_at(open.len() - 188);
        lines.come(0, 120, begins);
        feed.take(Some(LineId(1)));
        lines.push(1, 0, 0, 125);
        // The old line's last picture is still open, so the cut is yet to come; the new line's
        // pictures are kept for it, whoever is wanted meanwhile.
        feed.take(Some(LineId(0)));
        lines.push(1, 1, 1, 130);
        feed.take(Some(LineId(1)));
        lines.push(1, 2, 2, 135);
        assert_eq!(feed.reading().on, Some(LineId(0)));
        lines.come(0, 140, ends);
        lines.push(1, 3, 3, 145);
        assert_eq!(feed.reading().on, Some(LineId(1)));
        let mut checker = TsChecker::new(Origin::Start);
        ts.take().iter().for_each(|piece| checker.push(piece));
        checker.finish(false);
        let lost: Vec<_> = checker.findings().into_iter().filter(|f| f.fault == TsFault::Continuity).collect();
        assert!(lost.is_empty(), "{lost:?}");
    }

    #[test]
    fn an_old_line_is_heard_until_the_last_shape_of_the_feed_has_left_it() {
        let feed = FeedMedia::new(Some(LineId(0)), Arc::default());
        let (ts, units) = (Outlet::new(), UnitOutlet::new());
        feed.add_out(AnyOutlet::Ts(ts));
        feed.add_out(units.clone().into());
        let mut lines = Lines::of(&feed);
        let mut push = |line: usize, n: u64, shown: u64, ms: u64| lines.push(line, n, shown, ms);
        // Of pictures in another order two are still to be shown before the last that came.
        for (n, shown) in [0, 3, 1, 2, 6].into_iter().enumerate() {
            push(0, n as u64, shown, n as u64 * 40);
        }
        feed.take(Some(LineId(1)));
        // The old line has been silent for so long that its packets are not waited for; its units
        // are.
        push(1, 0, 0, 500);
        assert_eq!(feed.reading().on, Some(LineId(1)));
        assert!(feed.is_of(LineId(0)) && feed.is_of(LineId(1)));
        push(0, 5, 4, 510);
        push(0, 6, 5, 520);
        push(0, 7, 9, 530);
        assert!(!feed.is_of(LineId(0)) && feed.is_of(LineId(1)));
        let from: Vec<u8> = units.take().iter().map(|u| *u.data.last().expect("bytes")).collect();
        assert_eq!(from, [0, 1, 2, 3, 4, 5, 6, 10], "units of the old line up to their own cut");
    }
}
