//! What happens to the machine that a show runs on.

use crate::place::{CHOIR, Place, Running, carries};
use choir_rig::port;
use std::{
    net::{SocketAddr, TcpStream},
    process::Command,
    time::Duration,
};

/// Descriptors that the show may have.
const FILES: usize = 120;

#[test]
fn strangers_who_take_all_descriptors_keep_nobody_from_the_show() {
    let place = Place::new();
    place.clip();
    let served = port();
    let sheet = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"tower\"\nfrom = \"clip.ts?repeat\"\n\
         [[feed]]\nname = \"out\"\nline = \"tower\"\nto = \"rtsp://127.0.0.1:{served}/out\"\n"
    );
    let sheet = place.write("regatta.toml", &sheet);
    let choir = place.command(&[]);
    let mut run = Command::new("sh");
    run.args(["-c", &format!("ulimit -n {FILES}; exec {CHOIR} run {sheet}")]).current_dir(place.dir.path());
    run.envs(choir.get_envs().filter_map(|(k, v)| Some((k, v?))));
    let mut show = Running::of(run);
    show.carries("line tower");
    let at = SocketAddr::from(([127, 0, 0, 1], served));
    let knock = || TcpStream::connect_timeout(&at, Duration::from_secs(5));
    let strangers: Vec<TcpStream> = (0..2 * FILES).filter_map(|_| knock().ok()).collect();
    let told = show.says("file descriptors are in use");
    assert!(told.contains(&format!("nearly all of {FILES}")), "{told}");
    // The engineer is answered, and the line goes on.
    place.until("the line goes on", |v| carries(&v["lines"][0]["link"]["state"]));
    drop(strangers);
    show.says("enough file descriptors again");
    let mut viewer = place.start(&["link", &format!("rtsp://127.0.0.1:{served}/out"), "seen.ts", "--for", "30s"]);
    viewer.carries("line in");
    for running in [&mut viewer, &mut show] {
        running.interrupt();
        running.end();
    }
}
