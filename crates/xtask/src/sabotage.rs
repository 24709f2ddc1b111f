//! Breaks the sources in small ways and says whether the tests notice. Each mistake is one that
//! could be made by hand.

use std::{
    fs,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

/// Share of the mistakes that the tests must catch, percent.
const CAUGHT_MIN: usize = 90;

/// Ten times what building and running the tests of one mistake takes, seconds.
const LONGEST: &str = "900";

/// One mistake: the file, what stands there, what is put in its place.
struct Mistake {
    file: &'static str,
    was: &'static str,
    is: &'static str,
}

const fn m(file: &'static str, was: &'static str, is: &'static str) -> Mistake {
    Mistake { file, was, is }
}

const SEND: &str = "choir-proto/src/srt/send.rs";
const RECEIVE: &str = "choir-proto/src/srt/receive.rs";
const TIME: &str = "choir-proto/src/srt/timebase.rs";
const LISTENER: &str = "choir-proto/src/srt/listener.rs";
const KEYS: &str = "choir-proto/src/srt/keycheck.rs";
const CONNECTION: &str = "choir-proto/src/srt/connection.rs";
const SPLICE: &str = "choir-proto/src/ts/splice/mod.rs";
const OUTPUT: &str = "choir-proto/src/ts/splice/output.rs";
const WAITING: &str = "choir-proto/src/ts/splice/waiting.rs";
const INDEX: &str = "choir-proto/src/ts/index.rs";
const LOOK: &str = "choir-proto/src/ts/look.rs";
const UNITS: &str = "choir-proto/src/unit_splice.rs";
const SOUND: &str = "choir-proto/src/ts/sound.rs";
const CHUNKS: &str = "choir-proto/src/rtmp/chunk.rs";
const TAGS: &str = "choir-proto/src/rtmp/tags.rs";
const AUTH: &str = "choir-proto/src/auth.rs";
const HEALTH: &str = "choir-core/src/health.rs";
const CHANGE: &str = "choir-core/src/model/change.rs";

const MISTAKES: &[Mistake] = &[
    m(SEND, "if message >= 0x03FF_FFFF { 1 }", "if message >= 0x03FF_FFFF { 0 }"),
    m(SEND, "self.given_up + self.sent < self.peer_window", "self.sent < self.peer_window"),
    m(SEND, "Some(i) if self.packets[i].hole_ends >= oldest => break,", "Some(i) if self.packets[i].hole_ends < oldest => break,"),
    m(SEND, "is_none_or(|t| now - t >= guard)", "is_none_or(|t| now - t >= 0)"),
    m(SEND, "!packet.queued && hole_ends >= oldest", "hole_ends >= oldest"),
    m(SEND, "let is_new = !std::mem::replace(&mut packet.reported, true);", "let is_new = true;"),
    m(SEND, "if next.distance_from(sent_end) > 0 {", "if false {"),
    m(SEND, "take_while(|p| p.ts + horizon <= now)", "take_while(|p| p.ts + horizon < now - 1)"),
    m(
        RECEIVE,
        "if was_skipped { Arrival::Late } else { Arrival::Duplicate }",
        "if was_skipped { Arrival::Duplicate } else { Arrival::Late }",
    ),
    m(RECEIVE, "if index >= self.window {", "if index > self.window {"),
    m(RECEIVE, "let lateness = (now - *noticed) * 5 / 4;", "let lateness = now - *noticed;"),
    m(RECEIVE, "self.reorder.max(lateness.min(self.reorder_limit))", "self.reorder.max(lateness)"),
    m(RECEIVE, "self.missing += gap;", "self.missing += gap + 1;"),
    m(RECEIVE, "*slot = Slot::Gone;\n                self.missing -= 1;", "*slot = Slot::Gone;"),
    m(TIME, "now - ts - rtt / 2", "now - ts - rtt"),
    m(TIME, "is_none_or(|(best, _)| rtt < best)", "is_none_or(|(best, _)| rtt > best)"),
    m(TIME, "let rtt = rtt.clamp(1, RTT_MAX_US);", "let rtt = rtt.max(1);"),
    m(TIME, "self.rtt = (7 * self.rtt + rtt) / 8;", "self.rtt = (self.rtt + 7 * rtt) / 8;"),
    m(TIME, "(rtt_us, var_us) != UNMEASURED", "true"),
    m(LISTENER, "cookie == self.cookie(from, minute) || cookie == self.cookie(from, minute - 1)", "cookie == self.cookie(from, minute)"),
    m(LISTENER, "self.rules.iter().filter(|r| r.stream != StreamMatch::Any).find(", "self.rules.iter().find("),
    m(KEYS, "of_address >= WAITING_PER_ADDRESS || ", ""),
    m(KEYS, "if caller.asked_before { self.waiting.iter().take_while(|w| w.asked_before).count() }", "if false { 0 }"),
    m(CONNECTION, "(self.rtt.rtt - self.rtt.var.min(self.rtt.rtt / 8)).max(1_000)", "(self.rtt.rtt * 2).max(1_000)"),
    m(CONNECTION, "micros(self.agreed.send_latency) + LATE_SPARE_US - self.rtt.queued()", "micros(self.agreed.send_latency) * 4"),
    m(CONNECTION, "self.idle_us = self.idle_us.min(RIVAL_SILENCE_US);", ""),
    m(CONNECTION, "if ack.number != 0 {", "if true {"),
    m(SPLICE, "if Some(key.line) != wanted {", "if false {"),
    m(SPLICE, "if self.line == on.line { self.session > on.session }", "if self.line == on.line { self.session != on.session }"),
    m(SPLICE, "} else if !self.cut {", "} else if true {"),
    m(SPLICE, "old.tracks.unfinished().for_each(|(pid, left)| self.out.fill(pid, left, out));", ""),
    m(SPLICE, "tracks.inherit(&old.tracks);", ""),
    m(SPLICE, "for raw in tables.iter().flatten().chain(sound)", "for raw in tables.iter().flatten().take(0).chain(sound)"),
    m(SPLICE, "if !over && !next.source.is_full() && !on.tracks.all_closed() {", "if false {"),
    m(SPLICE, "        if !self.out.begins(p) {\n            return;\n        }\n", ""),
    m(SPLICE, "far if far > EXTRA_MAX =>", "far if far > EXTRA_MAX * 1000 =>"),
    m(OUTPUT, "(now - at).max(0) as u64 * 27", "(now - at).max(0) as u64 * 26"),
    m(OUTPUT, "self.offset / 300 + self.extra", "self.offset / 300"),
    m(OUTPUT, "if off.abs() <= FOLLOWS_MAX {", "if false {"),
    m(OUTPUT, "self.deltas.fill(NONE);", ""),
    m(WAITING, "<= -spare", "<= spare * 100"),
    m(WAITING, "if !picture.keyframe || !(with_sets || self.bare > 1) {", "if !picture.keyframe {"),
    m(INDEX, "self.looks.retain(|(of, _)| *of != place);", ""),
    m(INDEX, "*slot = last | 16;", ""),
    m(INDEX, "Some(first) => first.pid == i.packet.pid,", "Some(_) => true,"),
    m(
        LOOK,
        "(Some(true), with_sets) => Some(Picture { keyframe: true, with_sets: Some(with_sets) }),",
        "(Some(true), _) => Some(Picture { keyframe: true, with_sets: Some(true) }),",
    ),
    m(
        LOOK,
        "Some(Picture { keyframe: self.flagged, with_sets: with_sets.then_some(true) })",
        "Some(Picture { keyframe: false, with_sets: with_sets.then_some(true) })",
    ),
    m(UNITS, "unit.kind.is_video() && unit.keyframe", "unit.kind.is_video()"),
    m(UNITS, "&& !self.is_behind(unit);", "&& true;"),
    m(SOUND, "(hole >= -ROUNDING)", "(hole >= -ROUNDING * 10_000)"),
    m(SOUND, "let skip = (-hole - ROUNDING).max(0)", "let skip = 0 * (-hole - ROUNDING).max(0)"),
    m(CHUNKS, "0 => (stream.time, stream.delta) = (time, time)", "0 => (stream.time, stream.delta) = (time, 0)"),
    m(CHUNKS, "extended.is_none_or(|said| said == time)", "true"),
    m(CHUNKS, "if length > self.most {", "if false {"),
    m(TAGS, "if keyframe && !own_sets {", "if keyframe {"),
    m(UNITS, ".max(missing(pts, self.reach.pts))", ""),
    m(AUTH, "found.sort_by_key(|c| std::cmp::Reverse(c.scheme));", "found.sort_by_key(|c| c.scheme);"),
    m(AUTH, "',' if !quoted => {", "',' => {"),
    m(AUTH, "matches!(self.scheme, Scheme::Md5Session | Scheme::Sha256Session)", "matches!(self.scheme, Scheme::Md5Session)"),
    m(AUTH, "Scheme::Sha256 | Scheme::Sha256Session => hex::encode(Sha256", "Scheme::Sha256 => hex::encode(Sha256"),
    m(AUTH, "qops.is_some_and(|q| !q.trim().is_empty()) && !qop", "false"),
    m(AUTH, "eq_ignore_ascii_case(\"true\")", "eq_ignore_ascii_case(\"false\")"),
    m(HEALTH, "Some(quiet) if quiet >= limits::SILENCE", "Some(quiet) if quiet >= limits::SILENCE * 10"),
    m(HEALTH, "None if r.up_for < limits::FIRST_PICTURE", "None if r.up_for > limits::FIRST_PICTURE"),
    m(HEALTH, "mean >= limits::BROKEN_SHARE && t.missing > 0", "false"),
    m(HEALTH, "h.least < limits::headroom_ms(latency_ms)", "h.greatest < limits::headroom_ms(latency_ms)"),
    m(HEALTH, "if now < *until => (State::Strained", "if now > *until => (State::Strained"),
    m(HEALTH, "reason = Reason::Cause(cause.clone());", ""),
    m(CHANGE, "self.effective(&old.from) != new.effective(&line.from)", "false"),
    m(CHANGE, "link.with_latency(self.show.latency)", "link.clone()"),
    m(CHANGE, "if all.len() == before && old != feed", "if old != feed"),
];

pub fn run(args: &[&str]) -> Result<(), String> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let target = std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| root.join("target"), PathBuf::from).join("sabotage");
    let tree = target.join("tree");
    fs::create_dir_all(&target).map_err(|e| format!("{}: {e}", target.display()))?;
    let lock = fs::File::create(target.join("lock")).map_err(|e| format!("{}: {e}", target.display()))?;
    lock.try_lock().map_err(|_| format!("{}: another run uses it", target.display()))?;
    copy(&root, &tree).map_err(|e| format!("{}: {e}", tree.display()))?;
    let (mut caught, mut missed) = (0, Vec::new());
    let chosen: Vec<&Mistake> = MISTAKES.iter().filter(|m| args.first().is_none_or(|name| m.file.contains(name))).collect();
    for file in [SEND, SPLICE, AUTH, HEALTH].into_iter().filter(|f| chosen.iter().any(|m| tests_of(m.file) == tests_of(f))) {
        if !passes(&tree, &target, file)? {
            return Err(format!("the tests of {file} fail before anything is broken"));
        }
    }
    for mistake in chosen {
        let path = tree.join("crates").join(mistake.file);
        let text = fs::read_to_string(&path).map_err(|e| format!("{}: {e}", path.display()))?;
        let write = |t: &str| fs::write(&path, t).map_err(|e| format!("{}: {e}", path.display()));
        write(&text.replacen(mistake.was, mistake.is, 1))?;
        let passed = passes(&tree, &target, mistake.file);
        write(&text)?;
        let noticed = !passed.map_err(|e| format!("{} -> {}: {e}", mistake.was, mistake.is))?;
        println!("{} {}: {} -> {}", if noticed { "caught" } else { "MISSED" }, mistake.file, mistake.was.trim(), mistake.is.trim());
        if noticed {
            caught += 1;
        } else {
            missed.push(mistake.was);
        }
    }
    let all = caught + missed.len();
    println!("{caught} of {all} caught, {} %", caught * 100 / all.max(1));
    if caught * 100 < all * CAUGHT_MIN { Err(format!("fewer than {CAUGHT_MIN} % of the mistakes are caught")) } else { Ok(()) }
}

/// Copies the sources, without what is built from them.
fn copy(from: &Path, to: &Path) -> std::io::Result<()> {
    fs::create_dir_all(to)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let name = entry.file_name();
        if name == "target" || name == ".git" {
            continue;
        }
        let (path, copied) = (entry.path(), to.join(&name));
        if entry.file_type()?.is_dir() {
            copy(&path, &copied)?;
        } else if fs::read(&path)? != fs::read(&copied).unwrap_or_default() {
            fs::copy(&path, &copied)?;
        }
    }
    Ok(())
}

/// The tests that a mistake in a file should fail.
fn tests_of(file: &str) -> &'static [&'static str] {
    match file {
        f if f.contains("/srt/") => {
            &["-p", "choir-proto", "--lib", "--test", "srt_links", "--test", "srt_repairs", "--test", "srt_properties"]
        }
        f if f.contains("/ts/") => &["-p", "choir-proto", "--lib", "--test", "takes", "--test", "ts"],
        f if f.contains("choir-proto") => &["-p", "choir-proto", "--lib", "--test", "rtsp", "--test", "onvif"],
        _ => &["-p", "choir-core", "--lib"],
    }
}

/// Whether the tests of a file pass. What does not build is no mistake that a test could catch: the
/// list is wrong.
fn passes(tree: &Path, target: &Path, file: &str) -> Result<bool, String> {
    let cargo = |more: &[&str]| {
        // A mistake that makes a test run for ever has been noticed as well.
        let mut c = Command::new("timeout");
        c.arg(LONGEST).arg(std::env::var("CARGO").unwrap_or_else(|_| "cargo".into()));
        c.current_dir(tree).env("CARGO_TARGET_DIR", target).stdout(Stdio::null());
        // Built once and run once: building quickly counts for more.
        c.args(["test", "-q", "--config", "profile.dev.package.choir-proto.opt-level=1"]).args(tests_of(file)).args(more);
        // Fewer random cases: what a case cannot show in so many, a reviewer would not trust
        // either.
        c.env("PROPTEST_CASES", "60");
        c
    };
    if !cargo(&["--no-run"]).status().is_ok_and(|s| s.success()) {
        return Err("it does not build".into());
    }
    Ok(cargo(&[]).stderr(Stdio::null()).status().is_ok_and(|s| s.success()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_mistake_can_be_made() {
        let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
        for m in MISTAKES {
            let text = fs::read_to_string(crates.join(m.file)).expect(m.file);
            assert!(text.contains(m.was), "{}: \"{}\" is not there any more: bring the list up to date", m.file, m.was);
        }
    }
}
