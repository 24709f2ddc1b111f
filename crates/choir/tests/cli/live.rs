//! The live view in a real terminal, which must come back whole.

use crate::place::{CHOIR, Place, port};
use rustix::{
    pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt},
    termios::{Winsize, tcgetattr, tcsetwinsize},
};
use std::{
    fs::{File, OpenOptions},
    io::{Read, Write},
    os::fd::OwnedFd,
    process::{Child, Command, Stdio},
    sync::mpsc,
    time::{Duration, Instant},
};

const PATIENCE: Duration = Duration::from_secs(20);

/// A terminal with a `choir` in it.
pub struct Screen {
    keyboard: File,
    slave: File,
    child: Child,
    output: mpsc::Receiver<Vec<u8>>,
    seen: String,
}

fn size(rows: u16, cols: u16) -> Winsize {
    Winsize { ws_row: rows, ws_col: cols, ws_xpixel: 0, ws_ypixel: 0 }
}

impl Screen {
    pub fn open(place: &Place, args: &[&str]) -> Self {
        Self::open_with(place, args, &[])
    }

    /// With more in its environment.
    pub fn open_with(place: &Place, args: &[&str], more: &[(&str, &str)]) -> Self {
        let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).expect("a terminal");
        grantpt(&master).expect("granted");
        unlockpt(&master).expect("unlocked");
        let name = ptsname(&master, Vec::new()).expect("a name");
        tcsetwinsize(&master, size(24, 80)).expect("sized");
        let slave = OpenOptions::new().read(true).write(true).open(name.to_str().expect("text")).expect("opened");
        let end = || Stdio::from(OwnedFd::from(slave.try_clone().expect("cloned")));
        let choir = place.command(args);
        let mut command = Command::new("setsid");
        command.args(["--ctty", "--wait", CHOIR]).args(choir.get_args()).current_dir(place.dir.path()).env("TERM", "xterm-256color");
        command.envs(choir.get_envs().filter_map(|(k, v)| Some((k, v?)))).envs(more.iter().copied());
        let child = command.stdin(end()).stdout(end()).stderr(end()).spawn().expect("starts");
        let mut reader = File::from(master.try_clone().expect("cloned"));
        let (tx, output) = mpsc::channel();
        std::thread::spawn(move || {
            let mut buffer = [0; 8192];
            while let Ok(n @ 1..) = reader.read(&mut buffer) {
                if tx.send(buffer[..n].to_vec()).is_err() {
                    return;
                }
            }
        });
        Self { keyboard: File::from(master), slave, child, output, seen: String::new() }
    }

    /// Waits until the screen has shown this since the last call.
    pub fn shows(&mut self, wanted: &str) {
        let end = Instant::now() + PATIENCE;
        while !self.seen.contains(wanted) {
            let left = end.saturating_duration_since(Instant::now());
            let piece = self.output.recv_timeout(left).unwrap_or_else(|_| panic!("never showed {wanted:?}: {:?}", self.seen));
            self.seen.push_str(&String::from_utf8_lossy(&piece));
        }
        let at = self.seen.find(wanted).unwrap_or(0) + wanted.len();
        self.seen.drain(..at);
    }

    /// What has come since the last thing that was waited for.
    pub fn seen(&self) -> &str {
        &self.seen
    }

    pub fn types(&mut self, keys: &str) {
        self.keyboard.write_all(keys.as_bytes()).expect("typed");
    }

    /// The terminal goes away, as when its window is closed; waits for the end of what ran in it.
    pub fn hang_up(mut self) {
        let status = Command::new("kill").args(["-HUP", &self.child.id().to_string()]).status().expect("kill");
        assert!(status.success());
        let end = Instant::now() + PATIENCE;
        while self.child.try_wait().expect("waits").is_none() {
            assert!(Instant::now() < end, "it did not end with its terminal");
            let _ = self.output.recv_timeout(Duration::from_millis(20));
        }
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn sheet(place: &Place) -> String {
    let text =
        format!("[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"finish-tower\"\nfrom = \"udp://127.0.0.1:{}\"\n", port());
    place.write("w.toml", &text)
}

#[test]
fn two_terminals_show_one_show_take_keys_and_are_given_back() {
    let place = Place::new();
    let sheet = sheet(&place);
    let mut first = Screen::open(&place, &["run", &sheet]);
    let before = format!("{:?}", tcgetattr(&first.slave));
    first.shows("\u{1b}[?1049h");
    first.shows("finish-tower");
    let mut second = Screen::open(&place, &["watch", &sheet]);
    second.shows("finish-tower");
    // Held in one, seen in the other.
    second.types("h");
    first.shows("held");
    // The window grows: what only a wide one has comes into view.
    tcsetwinsize(&second.keyboard, size(46, 158)).expect("sized");
    second.shows("encryption");
    second.types("q");
    second.shows("\u{1b}[?1049l");
    assert!(second.child.wait().expect("ends").success(), "leaving a watch leaves the show running");
    assert_eq!(place.run(&["status"]).code, 0);
    first.types("q");
    first.shows("End the show");
    first.types("y");
    first.shows("\u{1b}[?1049l");
    first.shows("finish-tower");
    assert!(first.child.wait().expect("ends").success());
    assert_eq!(format!("{:?}", tcgetattr(&first.slave)), before, "the terminal's settings are as before");
}

#[test]
fn a_watch_whose_show_ends_says_so_and_gives_the_terminal_back() {
    let place = Place::new();
    let sheet = sheet(&place);
    let mut show = place.start(&["run", &sheet]);
    show.says("waiting");
    let mut watch = Screen::open(&place, &["watch"]);
    watch.shows("finish-tower");
    show.interrupt();
    watch.shows("\u{1b}[?1049l");
    watch.shows("the show has ended");
    assert_eq!(watch.child.wait().expect("ends").code(), Some(3));
}

#[test]
fn a_watch_is_clicked_filtered_and_called_by_an_alarm() {
    let (place, port) = (Place::new(), port());
    let text = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\npictures = \"off\"\n[alarm]\nbroken = \"1 s\"\nstrained = \"off\"\ntell = [\"bell\", \"desktop\"]\n\
         [[line]]\nname = \"finish-tower\"\nfrom = \"udp://127.0.0.1:{port}\"\n[[line]]\nname = \"jury\"\nfrom = \"udp://127.0.0.1:{}\"\n",
        crate::place::port()
    );
    let sheet = place.write("boathouse.toml", &text);
    let mut show = place.start(&["run", &sheet]);
    let to = format!("udp://127.0.0.1:{port}");
    let mut camera = place.start(&["sim", "camera", "--to", &to, "--size", "320x180", "--bitrate", "500kbps", "--keyframe", "0.4"]);
    show.carries("line finish-tower");
    let mut watch = Screen::open(&place, &["watch"]);
    watch.shows("\u{1b}[?1006h");
    watch.shows("finish-tower");
    // A click on the last row: the key that explains the keys.
    watch.types("\u{1b}[<0;3;24M\u{1b}[<0;3;24m");
    watch.shows("any of them closes this");
    watch.types(" /jury");
    watch.shows("y▏");
    watch.types("\u{1b}");
    watch.shows("finish-tower");
    camera.kill();
    watch.shows("\u{7}\u{1b}]9;line finish-tower: ");
    watch.shows("1 alarm");
    watch.types("A");
    watch.shows("alarm 1 acknowledged");
    watch.types("q");
    watch.shows("\u{1b}[?1006l");
    watch.shows("\u{1b}[?1049l");
}

#[test]
fn a_terminal_that_says_it_draws_pixels_gets_real_pictures() {
    let (place, port) = (Place::new(), port());
    let text = format!("[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"finish-tower\"\nfrom = \"udp://127.0.0.1:{port}\"\n");
    let sheet = place.write("boathouse.toml", &text);
    let mut show = place.start(&["run", &sheet]);
    let to = format!("udp://127.0.0.1:{port}");
    let _camera = place.start(&["sim", "camera", "--to", &to, "--size", "320x180", "--bitrate", "500kbps", "--keyframe", "0.4"]);
    show.carries("line finish-tower");
    let mut watch = Screen::open_with(&place, &["watch"], &[("NO_COLOR", ""), ("COLORTERM", "truecolor")]);
    watch.shows("\u{1b}[16t\u{1b}[c");
    watch.types("\u{1b}[6;16;8t\u{1b}[?62;4;22c");
    watch.shows("finish-tower");
    watch.types("w");
    watch.shows("\u{1b}P0;1;0q\"1;1;");
    watch.shows("\u{1b}\\");
    watch.types("q");
    watch.shows("\u{1b}[?1049l");
}

#[test]
fn watch_refuses_without_a_terminal() {
    let place = Place::new();
    let out = place.run(&["watch"]);
    assert_eq!((out.code, out.stderr.contains("choir status")), (2, true), "{}", out.stderr);
}

#[test]
fn a_sheet_is_begun_by_answering_questions() {
    let place = Place::new();
    let mut screen = Screen::open(&place, &["new", "first.toml"]);
    screen.shows("What is the show called?");
    screen.types("Tarn Hollow Regatta\n");
    screen.shows("Which network is on site?");
    screen.types("nonsense\n");
    screen.shows("is not a valid answer");
    screen.types("127.20.0.0/24\n");
    screen.shows("This machine's address");
    screen.types("\n");
    screen.shows("frames per second");
    screen.types("50\n");
    screen.shows("How many cameras");
    screen.types("3\n");
    screen.shows("How do they arrive");
    screen.types("srt-listener\n");
    screen.shows("written, with 3 lines");
    let out = place.run(&["check", "first.toml"]);
    assert!(out.code == 0 && out.stdout.contains("3 lines, 3 feeds"), "{}", out.stdout);
    assert!(std::fs::read_to_string(place.path("first.toml")).expect("a sheet").contains("rate = 50"));
}

#[test]
fn a_line_check_fills_while_it_runs() {
    let place = Place::new();
    let text = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"launch\"\nfrom = \"srt://127.0.0.1:{}?mode=listener\"\n",
        port()
    );
    let sheet = place.write("boathouse.toml", &text);
    let mut screen = Screen::open(&place, &["linecheck", &sheet, "--wait", "3s"]);
    screen.shows("..");
    screen.shows("settled");
    screen.shows("no caller yet");
    screen.shows("failed");
}
