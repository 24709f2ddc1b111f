//! What is being recorded.

use super::{plural, tables::table};
use choir_core::{
    units::{Bitrate, say_bytes},
    view::RecordingView,
};
use choir_host::clock::time_of_day;

/// A table.
pub fn list(all: &[RecordingView]) -> String {
    let row = |r: &RecordingView| {
        let says = r.failed.clone().or_else(|| r.file.clone()).unwrap_or_else(|| "waits for a keyframe".into());
        vec![
            r.subject.clone(),
            time_of_day(r.since_ms),
            Bitrate(r.rate_bps).to_string(),
            r.files.to_string(),
            say_bytes(r.bytes),
            r.hours_left.map_or_else(|| "-".into(), |h| format!("{h:.0}")),
            format!("{}/{says}", r.folder),
        ]
    };
    let rows: Vec<Vec<String>> = all.iter().map(row).collect();
    table(&["recorded", "since", ">rate", ">files", ">size", ">hours left", "writes"], &rows)
}

/// In a few words: `2 recordings, 41 h left`; with what cannot be written, if anything.
pub fn short(all: &[RecordingView]) -> Option<(String, bool)> {
    let failed = all.iter().filter(|r| r.failed.is_some()).count();
    let left = all.iter().filter_map(|r| r.hours_left).reduce(f64::min);
    let left = left.map_or_else(String::new, |h| if h < 1.0 { format!(", {:.0} min left", h * 60.0) } else { format!(", {h:.0} h left") });
    let what =
        if failed > 0 { format!("{failed} of {} fail", plural(all.len(), "recording")) } else { plural(all.len(), "recording") + &left };
    (!all.is_empty()).then_some((what, failed > 0))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn how_long_the_disk_lasts_and_what_fails_is_said() {
        let one =
            RecordingView { subject: "line dock".into(), folder: "recordings".into(), hours_left: Some(41.3), ..RecordingView::default() };
        assert_eq!(short(&[]), None);
        assert_eq!(short(&[one.clone(), one.clone()]), Some(("2 recordings, 41 h left".into(), false)));
        let soon = RecordingView { hours_left: Some(0.5), ..one.clone() };
        assert_eq!(short(&[one.clone(), soon]), Some(("2 recordings, 30 min left".into(), false)));
        let failed = RecordingView { failed: Some("no space".into()), ..one.clone() };
        assert_eq!(short(&[one.clone(), failed.clone()]), Some(("1 of 2 recordings fail".into(), true)));
        let text = list(&[one, failed]);
        assert!(text.contains("recordings/waits for a keyframe") && text.contains("recordings/no space") && text.contains("41"), "{text}");
    }
}
