//! A line check on one page, complete in itself, to be handed on.

use super::{
    linecheck::{in_order, summary, values, word},
    plural,
};
use base64::{Engine, prelude::BASE64_STANDARD};
use choir_core::linecheck::{Item, Mark, Row, Step};
use choir_host::clock::time_of_day;
use choir_show::linecheck::Checked;
use quick_xml::escape::escape;
use std::fmt::Write;

/// A column for each step is as narrow as a sign in it, with its heading upright; where there is no
/// room for that either, each row becomes a paragraph with its steps side by side.
const STYLE: &str = "body{font:15px/1.45 system-ui,sans-serif;margin:2rem auto;max-width:76rem;color:#1c242c;background:#fff;padding:0 1rem}\
h1{font-size:1.4rem;margin:0}h2{font-size:1.1rem;margin:1.6rem 0 .5rem}.when{color:#52616b;margin:.2rem 0 1rem}\
.sum{font-size:1.15rem;font-weight:600}table{border-collapse:collapse;font-size:.85rem}\
th,td{padding:.25rem .3rem;border:1px solid #d5dde2;text-align:center;min-width:1.7rem}\
th span{writing-mode:vertical-rl;transform:rotate(180deg);white-space:nowrap}th{vertical-align:bottom}\
th:first-child,td:first-child{text-align:left;white-space:nowrap;padding-right:.8rem}\
.passed{background:#e3f2e9}.doubtful{background:#fbeec9}.failed{background:#f7d4cd;font-weight:700}.open,.skipped{color:#7b8890}\
.sheet{display:grid;grid-template-columns:repeat(auto-fill,minmax(min(19rem,100%),1fr));gap:1rem}\
figure{margin:0}figure img{width:100%;display:block;border:1px solid #b8c4cc}figcaption{padding:.3rem 0;font-size:.85rem}\
figcaption b{display:block}ul{padding-left:1.2rem}li{margin:.4rem 0;overflow-wrap:anywhere}li span{color:#52616b;display:block}\
@media screen and (max-width:52rem){table,tbody,tr{display:block}tr:first-child,td.skipped{display:none}\
tr{padding:.5rem 0;border-bottom:1px solid #d5dde2}td{display:inline-block;margin:.15rem .25rem .15rem 0;border-radius:3px}\
td::before{content:attr(data-step) ' '}td:first-child{display:block;border:0;font-weight:600;padding:0}td:first-child::before{content:none}}\
@media print{body{margin:0}h2{break-after:avoid}figure,li{break-inside:avoid}}";

/// One page, complete in itself.
pub fn html(show: &str, at_ms: u64, checked: &Checked) -> String {
    let date = httpdate::fmt_http_date(std::time::UNIX_EPOCH + std::time::Duration::from_millis(at_ms));
    let day = date.split_once(", ").map_or(date.as_str(), |(_, d)| d.get(..11).unwrap_or(d));
    let rows = &checked.rows;
    let mut out = format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width, initial-scale=1\"><title>{0}: line check</title><style>{STYLE}</style></head><body>\n<h1>{0}: line check</h1>\n<p class=\"when\">{day}, {1} UTC</p>\n<p class=\"sum\">{2}</p>\n",
        escape(show),
        time_of_day(at_ms),
        summary(rows)
    );
    if checked.cut_short {
        out.push_str("<p>Stopped early: open items are not judged.</p>\n");
    }
    out.push_str("<table><tr><th></th>");
    Step::ALL.iter().for_each(|s| {
        let _ = write!(out, "<th><span>{}</span></th>", s.word());
    });
    out.push_str("</tr>\n");
    for row in rows {
        let _ = write!(out, "<tr><td>{}</td>", escape(&row.subject));
        for step in Step::ALL {
            let item = row.items.iter().find(|i| i.step == step);
            let class = item.map_or("skipped", |i| class(i.mark));
            let found = item.map_or("", |i| i.found.as_str());
            let (name, sign) = (step.word(), item.map_or("", |i| word(i.mark)));
            let _ = write!(out, "<td class=\"{class}\" data-step=\"{name}\" title=\"{}\">{sign}</td>", escape(found));
        }
        out.push_str("</tr>\n");
    }
    out.push_str("</table>\n");
    wrong(&mut out, rows);
    contact_sheet(&mut out, checked);
    out.push_str("<h2>What was measured</h2>\n<ul>\n");
    for row in rows.iter().filter(|r| !values(r).is_empty()) {
        let _ = writeln!(out, "<li><b>{}</b>: {}<span>{}</span></li>", escape(&row.subject), escape(values(row)), escape(&row.url));
    }
    out.push_str("</ul>\n</body></html>\n");
    out
}

const fn class(mark: Mark) -> &'static str {
    match mark {
        Mark::Skipped => "skipped",
        Mark::Passed => "passed",
        Mark::Open => "open",
        Mark::Doubtful => "doubtful",
        Mark::Failed => "failed",
    }
}

fn wrong(out: &mut String, rows: &[Row]) {
    let all: Vec<(&Row, &Item)> =
        rows.iter().flat_map(|r| r.items.iter().map(move |i| (r, i))).filter(|(_, i)| i.mark >= Mark::Doubtful).collect();
    if all.is_empty() {
        return;
    }
    let _ = writeln!(out, "<h2>{} to look at</h2>\n<ul>", plural(all.len(), "thing"));
    for (row, i) in all {
        let remedy = i.remedy.as_ref().map_or_else(String::new, |r| format!("<span>{}</span>", escape(r)));
        let _ = writeln!(
            out,
            "<li class=\"{}\"><b>{}</b>: {}: {}{remedy}</li>",
            class(i.mark),
            escape(&row.subject),
            i.step.word(),
            escape(&i.found)
        );
    }
    out.push_str("</ul>\n");
}

fn contact_sheet(out: &mut String, checked: &Checked) {
    if checked.stills.is_empty() {
        return;
    }
    out.push_str("<h2>Pictures</h2>\n<div class=\"sheet\">\n");
    for (name, title, still) in in_order(checked) {
        let data = BASE64_STANDARD.encode(still.png());
        let _ = writeln!(
            out,
            "<figure><img src=\"data:image/png;base64,{data}\" alt=\"{0}\"><figcaption><b>{0}</b>line {1}</figcaption></figure>",
            escape(title),
            escape(name)
        );
    }
    out.push_str("</div>\n");
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::sheet::Entry;
    use choir_show::still::Still;

    fn row(name: &str, step: Step, mark: Mark) -> Row {
        let entry = Entry::Line(name.into());
        let item = Item { step, mark, found: "<b>".into(), remedy: Some("a & b".into()) };
        Row { subject: entry.to_string(), entry, title: "Launch".into(), url: "srt://:7103".into(), items: vec![item] }
    }

    #[test]
    fn the_page_carries_any_value_as_text() {
        let mut checked = Checked { rows: vec![row("<x>", Step::Port, Mark::Failed)], ..Checked::default() };
        checked.stills.insert("<x>".into(), Still { width: 2, height: 2, rgb: vec![9; 12], source: (2, 2) });
        let page = html("Tarn <i>", 1_795_000_000_000, &checked);
        assert!(!page.contains("<x>") && !page.contains("<i>") && page.contains("a &amp; b"), "{page}");
        assert!(page.contains("data:image/png;base64,iVBOR") && page.contains("18 Nov 2026"), "{page}");
    }

    #[test]
    fn every_step_says_its_name_where_there_are_no_columns() {
        let page = html("x", 0, &Checked { rows: vec![row("launch", Step::Host, Mark::Passed)], ..Checked::default() });
        assert!(page.contains("name=\"viewport\"") && page.contains("data-step=\"host\" title=\"&lt;b&gt;\">ok</td>"), "{page}");
        assert_eq!(page.matches("data-step=").count(), Step::ALL.len());
    }
}
