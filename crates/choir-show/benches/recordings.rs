//! What recording many lines costs: thirty lines of 8 Mbit/s played from a file in one show, with
//! and without recordings of all, run in turn; the difference beside plain writes of the same bytes
//! to as many files, put on the disk each second as recordings are.
//!
//! `cargo bench -p choir-show --bench recordings`; `-- COUNT` for another number of lines.

use choir_core::{
    command::{By, Command},
    model::RecordSettings,
    sheet::read_sheet,
};
use choir_host::clock::thread_cpu;
use choir_proto::ts::{MuxRate, TsWriter, Unit, WriterConfig};
use choir_show::Show;
use std::{
    fs::{self, File},
    io::Write,
    path::Path,
    time::{Duration, Instant},
};
use tokio::runtime::Runtime;

const TIME: Duration = Duration::from_secs(8);
const BPS: u64 = 8_000_000;
/// Recordings are written so often, and plain files too.
const EVERY: Duration = Duration::from_millis(200);

fn main() {
    let count = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(30);
    let dir = tempfile::tempdir().expect("a folder");
    clip(dir.path());
    println!("{count} recordings of 8 Mbit/s; CPU of the whole process over {} s", TIME.as_secs());
    println!("{:>12} {:>12} {:>12} {:>12} {:>10}", "without s", "with s", "recording s", "plain s", "over plain");
    for _ in 0..3 {
        let (without, with, plain) = (show(dir.path(), count, false), show(dir.path(), count, true), plain(dir.path(), count));
        let recording = with.saturating_sub(without).as_secs_f64();
        println!(
            "{:12.2} {:12.2} {recording:12.2} {:12.2} {:10.2}",
            without.as_secs_f64(),
            with.as_secs_f64(),
            plain.as_secs_f64(),
            recording / plain.as_secs_f64()
        );
    }
}

/// Two seconds of pictures that loop.
fn clip(dir: &Path) {
    let mut writer = TsWriter::new(WriterConfig { audio: None, rate: MuxRate::Constant(BPS), ..WriterConfig::default() });
    let mut out = Vec::new();
    let sets: &[u8] = &[0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80];
    for n in 0..50u64 {
        let keyframe = n.is_multiple_of(25);
        let data = [if keyframe { sets } else { &[] }, &[0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }], &vec![0xA5; 36_000]].concat();
        writer.write(&Unit { video: true, pts: 90_000 + n * 3600, dts: None, keyframe, data: &[&data] }, &mut out);
    }
    fs::write(dir.join("clip.ts"), out).expect("written");
}

/// CPU of all threads of this process so far.
fn process_cpu() -> Duration {
    let text = fs::read_to_string("/proc/self/stat").expect("read");
    let fields: Vec<&str> = text.rsplit(')').next().expect("fields").split_whitespace().collect();
    let ticks: u64 = fields[11..13].iter().map(|f| f.parse::<u64>().expect("a number")).sum();
    Duration::from_millis(ticks * 10)
}

fn show(dir: &Path, count: usize, records: bool) -> Duration {
    let lines: String = (0..count).map(|n| format!("[[line]]\nname = \"line-{n}\"\nfrom = \"clip.ts?repeat\"\n")).collect();
    let text = format!("[show]\nname = \"Tarn Hollow Regatta\"\npictures = \"off\"\n{lines}");
    let sheet = read_sheet(&text).0.expect("a sheet without mistakes");
    let folder = dir.join("recordings");
    let runtime = Runtime::new().expect("a runtime");
    let used = runtime.block_on(async {
        let show = Show::start(&sheet, dir).await.expect("started");
        for n in (0..count).filter(|_| records) {
            let subject = show.subject_named(&format!("line-{n}")).expect("there");
            let settings = RecordSettings { folder: folder.clone(), each: Duration::from_secs(600), bytes: None };
            show.execute(By::CommandLine, Command::Record { subject, settings }).await.expect("recorded");
        }
        // The first keyframes are not what is measured.
        tokio::time::sleep(Duration::from_secs(2)).await;
        let before = process_cpu();
        tokio::time::sleep(TIME).await;
        let used = process_cpu() - before;
        show.stop().await;
        used
    });
    if records {
        let bytes: u64 = fs::read_dir(&folder).expect("a folder").flatten().filter_map(|e| Some(e.metadata().ok()?.len())).sum();
        let least = count as u64 * BPS / 8 * TIME.as_secs();
        assert!(bytes >= least, "{bytes} of {least} bytes were recorded");
        fs::remove_dir_all(&folder).expect("removed");
    }
    used
}

/// The same bytes, written by one thread.
fn plain(dir: &Path, count: usize) -> Duration {
    let folder = dir.join("plain");
    fs::create_dir_all(&folder).expect("a folder");
    let mut files: Vec<File> = (0..count).map(|n| File::create(folder.join(n.to_string())).expect("made")).collect();
    let data = vec![0x47; (BPS / 8) as usize * EVERY.as_millis() as usize / 1000];
    let (start, before, process) = (Instant::now(), thread_cpu(), process_cpu());
    let mut n = 0;
    while start.elapsed() < TIME {
        n += 1;
        for file in &mut files {
            file.write_all(&data).expect("written");
            if n % 5 == 0 {
                file.sync_data().expect("on the disk");
            }
        }
        std::thread::sleep((EVERY * n).saturating_sub(start.elapsed()));
    }
    let used = (process_cpu() - process).max(thread_cpu() - before);
    fs::remove_dir_all(&folder).expect("removed");
    used
}
