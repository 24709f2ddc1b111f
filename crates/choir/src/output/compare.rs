//! Several sources side by side: as a table, with pictures, and as a page.

use super::{halves::side_by_side, tables};
use base64::{Engine, prelude::BASE64_STANDARD};
use choir_core::{
    units::{Bitrate, say_rate, say_size},
    view::InspectView,
};
use choir_host::clock::time_of_day;
use choir_show::{inspect::Inspected, still::Still};
use quick_xml::escape::escape;
use std::fmt::Write;

/// Widest picture in the terminal, characters.
const STILL_MOST: usize = 60;

const STYLE: &str = "body{font:15px/1.45 system-ui,sans-serif;margin:2rem auto;max-width:80rem;color:#1c242c;background:#fff;padding:0 1rem}\
h1{font-size:1.4rem;margin:0}.when{color:#52616b;margin:.2rem 0 1rem}.all{overflow-x:auto}\
table{border-collapse:collapse;width:100%;table-layout:fixed}th,td{padding:.35rem .6rem;border-bottom:1px solid #d5dde2;text-align:left;vertical-align:top;overflow-wrap:anywhere}\
th:first-child{width:7.5rem}thead th{font-weight:600}tbody th{font-weight:400;color:#52616b}\
td.other{background:#fbeec9}img{width:100%;display:block;border:1px solid #b8c4cc}.none{background:#eef2f4;color:#52616b;padding:2rem 1rem;text-align:center}";

/// A fact of each, by its name.
fn facts(v: &InspectView) -> Vec<(&'static str, String)> {
    let none = || "-".to_owned();
    let p = v.picture.as_ref();
    let codec = p.map(|p| [Some(p.codec.clone()), p.profile.clone(), p.level.clone()].into_iter().flatten().collect::<Vec<_>>().join(" "));
    let keyframes = p
        .and_then(|p| p.keyframe_seconds)
        .map(|(least, most)| if most - least < 0.01 { format!("each {least:.2} s") } else { format!("each {least:.2} to {most:.2} s") });
    let rate = p.and_then(|p| p.measured_rate).map(say_rate);
    let problems = v.problems.len() + v.defects.iter().filter(|d| !d.minor).count();
    vec![
        ("picture", codec.unwrap_or_else(none)),
        ("size", p.and_then(|p| p.size).map_or_else(none, say_size)),
        ("a second", rate.unwrap_or_else(none)),
        ("keyframes", keyframes.unwrap_or_else(none)),
        ("B-pictures", p.map_or_else(none, |p| if p.b_pictures { "yes".into() } else { "none".into() })),
        ("bitrate", if v.found { Bitrate(v.rate_bps.mean).to_string() } else { none() }),
        ("peak, 1 s", if v.found { Bitrate(v.rate_bps.peak_1s).to_string() } else { none() }),
        ("sound", v.sound.clone().unwrap_or_else(|| if v.found { "none".into() } else { none() })),
        ("delay", v.delay_ms.map_or_else(none, |d| format!("{} ms", tables::digits(d.1)))),
        ("arrival", if v.found { format!("within {} ms", tables::digits(v.pcr_jitter_ms)) } else { none() }),
        ("came by", v.how.clone().unwrap_or_else(none)),
        ("problems", if v.found { problems.to_string() } else { v.reason.clone() }),
    ]
}

/// Each fact, what it is of each, and whether they differ.
fn rows(all: &[(String, Inspected)]) -> Vec<(&'static str, Vec<String>, bool)> {
    let columns: Vec<_> = all.iter().map(|(_, seen)| facts(&seen.view)).collect();
    let Some(first) = columns.first() else { return Vec::new() };
    // These are never quite the same.
    let measured = ["bitrate", "peak, 1 s", "delay", "arrival"];
    (0..first.len())
        .map(|n| {
            let values: Vec<String> = columns.iter().map(|c| c[n].1.clone()).collect();
            let differs = !measured.contains(&first[n].0) && values.iter().any(|v| *v != values[0]);
            (first[n].0, values, differs)
        })
        .collect()
}

/// A column each; what differs is marked.
pub fn table(all: &[(String, Inspected)]) -> String {
    let heads: Vec<&str> = ["", ""].into_iter().chain(all.iter().map(|(name, _)| name.as_str())).collect();
    let rows: Vec<Vec<String>> = rows(all)
        .into_iter()
        .map(|(fact, values, differs)| [vec![if differs { "≠".into() } else { String::new() }, fact.to_owned()], values].concat())
        .collect();
    tables::table(&heads, &rows)
}

/// Their pictures beside each other, two pixels to a character.
pub fn stills(all: &[(String, Inspected)], width: usize) -> String {
    let each = (width / all.len().max(1)).saturating_sub(2).min(STILL_MOST);
    let small: Vec<Option<Still>> = all.iter().map(|(_, seen)| seen.still.as_ref().map(|s| s.fit(each, each * 2))).collect();
    let mut out = side_by_side(&small.iter().map(Option::as_ref).collect::<Vec<_>>(), each + 2);
    let names: Vec<String> = all.iter().map(|(name, _)| format!("{:<each$}", name.chars().take(each).collect::<String>())).collect();
    if !out.is_empty() {
        let _ = writeln!(out, "{}\n", names.join("  ").trim_end());
    }
    out
}

/// One page, complete in itself.
pub fn page(all: &[(String, Inspected)], at_ms: u64) -> String {
    let mut out = format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width, initial-scale=1\"><title>Sources compared</title><style>{STYLE}</style></head><body>\n<h1>{} compared</h1>\n<p class=\"when\">{} UTC</p>\n<div class=\"all\"><table><thead><tr><th></th>",
        super::plural(all.len(), "source"),
        time_of_day(at_ms)
    );
    all.iter().for_each(|(name, _)| {
        let _ = write!(out, "<th>{}</th>", escape(name));
    });
    out.push_str("</tr></thead><tbody>\n<tr><th>first picture</th>");
    for (name, seen) in all {
        let _ = match &seen.still {
            Some(still) => {
                let data = BASE64_STANDARD.encode(still.fit(640, 640).png());
                write!(out, "<td><img src=\"data:image/png;base64,{data}\" alt=\"{}\"></td>", escape(name))
            }
            None => write!(out, "<td><div class=\"none\">no picture</div></td>"),
        };
    }
    out.push_str("</tr>\n");
    for (fact, values, differs) in rows(all) {
        let _ = write!(out, "<tr><th>{fact}</th>");
        values.iter().for_each(|value| {
            let _ = write!(out, "<td{}>{}</td>", if differs { " class=\"other\"" } else { "" }, escape(value));
        });
        out.push_str("</tr>\n");
    }
    out.push_str("</tbody></table></div>\n</body></html>\n");
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::view::{PictureView, RatesView};

    fn seen(size: (u32, u32), bps: u64) -> Inspected {
        let picture = PictureView { codec: "H.264".into(), size: Some(size), measured_rate: Some(25.0), ..PictureView::default() };
        let rate_bps = RatesView { mean: bps, ..RatesView::default() };
        let view = InspectView { found: true, picture: Some(picture), rate_bps, ..InspectView::default() };
        Inspected { view, still: Some(Still { width: 4, height: 3, rgb: vec![90; 36], source: (4, 3) }) }
    }

    #[test]
    fn what_differs_is_marked_and_the_page_carries_any_name_as_text() {
        let all = [("full".to_owned(), seen((1280, 720), 5_000_000)), ("<light>".to_owned(), seen((320, 180), 400_000))];
        let text = table(&all);
        let row = |fact: &str| text.lines().find(|l| l.contains(fact)).unwrap_or_default().to_owned();
        assert!(row("size").starts_with('≠') && row("size").split_whitespace().eq(["≠", "size", "1280x720", "320x180"]), "{text}");
        assert!(!row("a second").starts_with('≠') && !row("bitrate").starts_with('≠') && row("bitrate").contains("400 kbps"), "{text}");
        let page = page(&all, 1_795_000_000_000);
        assert!(!page.contains("<light>") && page.contains("&lt;light&gt;") && page.matches("data:image/png").count() == 2, "{page}");
        let drawn = stills(&all, 30);
        assert!(drawn.lines().count() == 4 && drawn.contains('▀') && drawn.contains("full"), "{drawn}");
    }
}
