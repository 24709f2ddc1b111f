//! Far-end cards: on the terminal, as Markdown, and as pages to be printed.

use choir_core::card::Card;
use qrcode::{
    QrCode,
    render::{svg, unicode::Dense1x2},
};
use quick_xml::escape::escape;
use std::fmt::Write;
use unicode_width::UnicodeWidthStr;

/// Side of a printed code, pixels.
const CODE_SIDE: u32 = 180;

pub fn text(cards: &[Card], code: bool) -> String {
    cards.iter().map(|c| one(c, code)).collect::<Vec<_>>().join("\n")
}

fn one(card: &Card, code: bool) -> String {
    let mut out = format!("{}: {}\n{}\n", card.subject, card.title, card.task);
    let width = card.entries.iter().map(|e| e.label.width()).max().unwrap_or(0);
    for e in &card.entries {
        let pad = " ".repeat(width.saturating_sub(e.label.width()));
        let note = e.note.as_ref().map_or_else(String::new, |n| format!("   ({n})"));
        let _ = writeln!(out, "  {}{pad}  {}{note}", e.label, e.value);
    }
    for m in &card.missing {
        let _ = writeln!(out, "  ! {m}");
    }
    if let Some(url) = &card.url {
        let _ = writeln!(out, "  {url}");
        if let Some(drawn) = code.then(|| QrCode::new(url).ok()).flatten() {
            // Light modules are drawn: most terminals are dark.
            let drawn = drawn.render::<Dense1x2>().dark_color(Dense1x2::Light).light_color(Dense1x2::Dark).quiet_zone(true).build();
            drawn.lines().for_each(|l| {
                let _ = writeln!(out, "  {l}");
            });
        }
    }
    out
}

/// For a chat message: a table per card.
pub fn markdown(cards: &[Card]) -> String {
    let cell = |text: &str| text.replace('|', "\\|").replace('\n', " ");
    let mut out = String::new();
    for card in cards {
        let _ = writeln!(out, "**{}** ({})\n{}\n\n| field | value |\n|---|---|", cell(&card.title), cell(&card.subject), card.task);
        for e in &card.entries {
            let note = e.note.as_ref().map_or_else(String::new, |n| format!(" ({})", cell(n)));
            let ticks = if e.value.contains('`') { "``" } else { "`" };
            let _ = writeln!(out, "| {} | {ticks}{}{ticks}{note} |", cell(&e.label), cell(&e.value));
        }
        for m in &card.missing {
            let _ = writeln!(out, "\n{m}");
        }
        if let Some(url) = &card.url {
            let _ = writeln!(out, "\n`{url}`");
        }
        out.push('\n');
    }
    out
}

const STYLE: &str = "body{font:15px/1.45 system-ui,sans-serif;margin:2rem auto;max-width:52rem;color:#1c242c;background:#fff}\
article{border:1px solid #b8c4cc;border-radius:6px;padding:1.2rem 1.6rem;margin:0 0 1.6rem;break-inside:avoid}\
h1{font-size:1.3rem}h2{font-size:1.15rem;margin:0}header p{margin:.1rem 0 .6rem;color:#52616b}\
.row{display:flex;gap:2rem;align-items:flex-start}table{border-collapse:collapse;flex:1}\
td{padding:.18rem .6rem .18rem 0;border-bottom:1px solid #e3e9ed;vertical-align:top}td:first-child{color:#52616b;white-space:nowrap}\
td b{font-family:ui-monospace,monospace;font-weight:600}small{color:#52616b}code{word-break:break-all;font-size:.85rem}\
.missing{color:#9c2f1f}svg{flex:none}td{overflow-wrap:anywhere}\
@media screen and (max-width:40rem){body{margin:1rem}article{padding:1rem}.row{flex-direction:column}td:first-child{white-space:normal}}footer{color:#52616b;font-size:.85rem}\
@media print{body{margin:0}article{break-after:page;border:none}article:last-of-type{break-after:auto}}";

/// One page per card, complete in itself.
pub fn html(show: &str, cards: &[Card], code: bool, revealed: bool) -> String {
    let mut out = format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width, initial-scale=1\"><title>{0}: far-end cards</title><style>{STYLE}</style></head><body>\n<h1>{0}: what to type at the other end</h1>\n",
        escape(show)
    );
    for card in cards {
        let _ = writeln!(
            out,
            "<article><header><h2>{}</h2><p>{}. {}</p></header><div class=\"row\"><table>",
            escape(&card.title),
            escape(&card.subject),
            escape(&card.task)
        );
        for e in &card.entries {
            let note = e.note.as_ref().map_or_else(String::new, |n| format!(" <small>{}</small>", escape(n)));
            let _ = writeln!(out, "<tr><td>{}</td><td><b>{}</b>{note}</td></tr>", escape(&e.label), escape(&e.value));
        }
        out.push_str("</table>");
        if let Some(drawn) = card.url.as_ref().filter(|_| code).and_then(|u| QrCode::new(u).ok()) {
            let image = drawn.render::<svg::Color<'_>>().min_dimensions(CODE_SIDE, CODE_SIDE).quiet_zone(true).build();
            // The page is one document: an XML declaration has no place in it.
            out.push_str(image.split_once("?>").map_or(image.as_str(), |(_, rest)| rest));
        }
        out.push_str("</div>\n");
        for m in &card.missing {
            let _ = writeln!(out, "<p class=\"missing\">{}</p>", escape(m));
        }
        if let Some(url) = &card.url {
            let _ = writeln!(out, "<p><code>{}</code></p>", escape(url));
        }
        out.push_str("</article>\n");
    }
    if revealed {
        out.push_str("<footer>This page contains passphrases.</footer>\n");
    }
    out.push_str("</body></html>\n");
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::card::Entry;

    fn card(value: &str) -> Card {
        let entry = Entry { label: "stream ID".into(), value: value.into(), note: None };
        Card {
            subject: "line launch".into(),
            title: "<Launch>".into(),
            task: "Set:".into(),
            entries: vec![entry],
            url: Some(format!("srt://127.20.0.1:7103?streamid={value}")),
            missing: vec!["something & more".into()],
        }
    }

    #[test]
    fn pages_and_messages_carry_any_value_as_text() {
        let hostile = card("<script>|`x`");
        let page = html("Tarn <b>", std::slice::from_ref(&hostile), true, false);
        assert!(!page.contains("<script>") && page.contains("&lt;script&gt;") && page.contains("Tarn &lt;b&gt;"), "{page}");
        assert!(page.contains("<svg") && !page.contains("<?xml") && !page.contains("contains passphrases"));
        assert!(html("x", std::slice::from_ref(&hostile), false, true).contains("contains passphrases"));
        assert!(markdown(&[hostile]).contains("``<script>\\|`x```"));
    }

    #[test]
    fn a_code_is_drawn_unless_it_is_not_wanted() {
        let drawn = text(&[card("a")], true);
        assert!(drawn.contains('█') && drawn.contains("  ! something & more"), "{drawn}");
        assert!(!text(&[card("a")], false).contains('█'));
        let huge = card(&"x".repeat(5000));
        assert!(!text(&[huge], true).contains('█'), "what no code holds is left out");
    }
}
