//! Named sources between two shows over sockets: found by name, decoded, told apart, lost and found
//! again.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use choir_core::{
    command::{By, Command},
    link::{FileLink, Link, parse_url},
    sheet::{Sheet, read_sheet},
    stave::StaveSettings,
    units::Bitrate,
    view::{ShowView, TallyView},
};
use choir_host::{
    End, Stop,
    mdns::{Service, announcement},
    multicast::{MDNS, MulticastSocket},
};
use choir_ports::{
    LinkStatus, Live, Outlet,
    stave::{
        Directory, Identity, Known, LanPlan, MadeUnit, NamedCamera, Node, NodePlan, NodeState, Roster, SourcePlan, StreamPlan, TakePlan,
        Ways, serve_directory, spawn_take,
    },
};
use choir_proto::{
    rtsp::Credentials,
    stave::{CameraVerb, Grade, StreamOffer, Track},
};
use choir_rig::Net;
use choir_show::{Show, bus, still::Still};
use choir_sim::{
    camera::{Camera, CameraSettings, NamedCameraSettings, start, start_named},
    device,
};
use std::{
    net::{Ipv4Addr, SocketAddr},
    path::Path,
    time::Duration,
};
use tokio::{
    runtime::Runtime,
    sync::{mpsc, oneshot},
    time::timeout,
};

const PATIENCE: Duration = Duration::from_secs(30);

fn link(url: &str) -> Link {
    parse_url(url).0.expect("a link")
}

fn run(test: impl Future<Output = ()>) {
    Runtime::new().expect("a runtime").block_on(async { timeout(PATIENCE * 3, test).await.expect("in time") });
}

async fn camera(to: u16, size: (u32, u32), keyframe: f64, stop: Stop) -> Camera {
    let settings = CameraSettings { size, keyframe, ..CameraSettings::new("finish-tower", link(&format!("udp://127.0.0.1:{to}"))) };
    start(settings, Path::new("."), stop).await.expect("a camera")
}

/// A sheet with this `[stave]`.
fn sheet(net: Net, stave: &str, rest: &str, folder: &Path) -> (Sheet, std::path::PathBuf) {
    let head = "[show]\nname = \"Tarn Hollow Regatta\"\n[stave]\nkey = { file = \"key\" }";
    let text = format!("{head}\ngroup = \"{}\"\n{stave}\n{rest}", group(net));
    let (sheet, findings) = read_sheet(&text);
    (sheet.unwrap_or_else(|| panic!("{findings:?}")), folder.to_owned())
}

async fn until(show: &Show, what: &str, wanted: impl Fn(&ShowView) -> bool) -> ShowView {
    let mut facts = show.facts();
    loop {
        let view = show.view();
        if wanted(&view) {
            return view;
        }
        let more = timeout(PATIENCE, bus::next(&mut facts)).await.unwrap_or_else(|_| panic!("never came to be: {what}\n{view:#?}"));
        assert!(more, "the show is gone");
    }
}

async fn known(roster: &Roster, what: &str, wanted: impl Fn(&[Known]) -> bool) -> Vec<Known> {
    let mut bell = roster.bell();
    loop {
        let known = roster.known();
        if wanted(&known) {
            return known;
        }
        timeout(PATIENCE, bell.changed()).await.unwrap_or_else(|_| panic!("never came to be: {what}\n{known:#?}")).unwrap();
    }
}

/// A group of this test alone: all tests hear each other on loopback.
fn group(net: Net) -> String {
    format!("regatta {net} {}", std::process::id())
}

fn node_plan(machine: &str, ip: Ipv4Addr, words: Option<&str>) -> NodePlan {
    let plan = NodePlan::open(machine, Identity::passing().unwrap(), ip.into());
    let group = group(Net::of(ip));
    NodePlan { key: words.map(|w| choir_proto::stave::SharedKey::derive(w, &group)), group, ..plan }
}

#[test]
fn a_name_is_found_decoded_and_told_what_is_on_air() {
    run(async {
        let net = choir_rig::net();
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("key"), "eight oars and a cox\n").unwrap();
        let (main, small) = (choir_rig::port(), choir_rig::port());
        let (end, stop) = Stop::new();
        let _cameras = [camera(main, (320, 180), 0.4, stop.clone()).await, camera(small, (160, 96), 0.4, stop.clone()).await];
        let lines = format!(
            "[[line]]\nname = \"tower\"\ntitle = \"Finish tower\"\nfrom = \"udp://127.0.0.1:{main}\"\nsub = \"tower-sub\"\n\
             [[line]]\nname = \"tower-sub\"\nfrom = \"udp://127.0.0.1:{small}\"\n\
             [[feed]]\nname = \"tower\"\nline = \"tower\"\nstave = \"Finish Tower\"\n"
        );
        let (here, base) = sheet(net, &format!("machine = \"boathouse\"\naddress = \"{net}.1\""), &lines, folder.path());
        let show = Show::start(&here, &base).await.unwrap();
        let wanted = "[[line]]\nname = \"in\"\nfrom = \"stave://finish tower\"\n[[line]]\nname = \"small\"\nfrom = \"stave://boathouse/Finish Tower?grade=sub\"\n\
                      [[feed]]\nname = \"on\"\nline = \"in\"\nstave = \"Finish Tower Again\"\n";
        let (there, base) = sheet(net, &format!("machine = \"jury\"\naddress = \"{net}.2\""), wanted, folder.path());
        let other = Show::start(&there, &base).await.unwrap();
        for (line, size) in [("in", (320, 180)), ("small", (160, 96))] {
            let units = timeout(PATIENCE, other.pictures(other.line_named(line).unwrap()).unwrap()).await.unwrap().unwrap();
            let still = Still::decode(&units, None).expect("a picture");
            assert_eq!((still.width, still.height), size, "{line}");
        }
        let view = until(&other, "both up", |v| v.lines.iter().all(|l| l.link.up_since_ms.is_some() && l.media.audio.is_some())).await;
        assert!(view.lines.iter().all(|l| l.link.encryption == "TLS 1.3" && l.link.missing == 0));
        let how = |n: usize| view.lines[n].link.how.clone().unwrap_or_default();
        assert!(
            how(0).starts_with("long-gop from boathouse, by QUIC") && how(1).starts_with("sub from boathouse"),
            "{} {}",
            how(0),
            how(1)
        );
        let offered = until(&show, "two receivers", |v| v.feeds[0].outs[0].how.as_deref() == Some("2 receivers")).await;
        assert_eq!(offered.feeds[0].outs[0].paste, ["stave://boathouse/Finish Tower"]);
        // A switcher behind the second show puts it on air: told through both.
        let (quit, gone) = Stop::new();
        let desk = Node::start(node_plan("desk", net.at(3), Some("eight oars and a cox")), &gone).await.unwrap();
        desk.seek(Ways { lan: Some(LanPlan::by(Some(net.at(3).into()))), ..Ways::default() }, &gone);
        let (tap, mut units) = mpsc::unbounded_channel();
        let status = LinkStatus::new();
        let Link::Stave(wish) = link("stave://Finish Tower Again") else { panic!("no name") };
        status.control.set_tally(Some(TallyView::OnAir));
        let plan = TakePlan { tap: Some(tap), ..TakePlan::of(&desk, wish, status.clone()) };
        let task = spawn_take(plan, gone);
        let first = timeout(PATIENCE, units.recv()).await.unwrap().unwrap();
        assert!(first.head.keyframe && first.head.fresh && first.head.number == 0);
        let picture = loop {
            let u = timeout(PATIENCE, units.recv()).await.unwrap().unwrap();
            if u.head.track == Track::Picture {
                break u;
            }
        };
        assert!(picture.head.timecode.is_some() && picture.head.made_us > 0);
        for s in [&other, &show] {
            until(s, "on air", |v| v.feeds[0].tally == Some(TallyView::OnAir) && v.lines[0].tally == Some(TallyView::OnAir)).await;
        }
        quit.now();
        task.await.unwrap();
        desk.ended().await;
        for s in [&other, &show] {
            until(s, "off again", |v| v.feeds[0].tally.is_none() && v.lines[0].tally.is_none()).await;
        }
        other.stop().await;
        show.stop().await;
        end.now();
    });
}

/// A show that offers "Finish Tower" at this port, and what feeds it.
async fn offering(net: Net, port: u16, words: &str, keyframe: f64, more: &str) -> (Show, End, tempfile::TempDir) {
    offering_to(net, port, words, keyframe, more, false).await
}

/// The same, also to be discovered.
async fn offering_to(net: Net, port: u16, words: &str, keyframe: f64, more: &str, all: bool) -> (Show, End, tempfile::TempDir) {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("key"), words).unwrap();
    let from = choir_rig::port();
    let (end, stop) = Stop::new();
    camera(from, (320, 180), keyframe, stop).await;
    let text = format!(
        "[[line]]\nname = \"tower\"\nfrom = \"udp://127.0.0.1:{from}\"\n[[feed]]\nname = \"tower\"\nline = \"tower\"\nstave = {{ name = \"Finish Tower\"{more} }}\n"
    );
    let stave = format!("machine = \"boathouse\"\naddress = \"{net}.1\"\nport = {port}\ndiscover = {all}\n");
    let (sheet, base) = sheet(net, &stave, &text, folder.path());
    (Show::start(&sheet, &base).await.unwrap(), end, folder)
}

/// Takes "Finish Tower" from a fixed place.
fn taking(
    node: &Node,
    url: &str,
    stop: &Stop,
) -> (std::sync::Arc<LinkStatus>, mpsc::UnboundedReceiver<choir_proto::stave::Ordered<choir_ports::stave::Arrived>>) {
    let (tap, units) = mpsc::unbounded_channel();
    let status = LinkStatus::new();
    let Link::Stave(wish) = link(url) else { panic!("no name") };
    let interface = Some(node.at().ip());
    let plan = TakePlan { interface, tap: Some(tap), ..TakePlan::of(node, wish, status.clone()) };
    spawn_take(plan, stop.clone());
    (status, units)
}

#[test]
fn a_source_that_is_started_anew_is_found_again_and_a_wrong_key_is_told() {
    run(async {
        let net = choir_rig::net();
        let port = choir_rig::port();
        let at = SocketAddr::from((net.at(1), port));
        let (_end, stop) = Stop::new();
        let node = Node::start(node_plan("desk", net.at(3), Some("eight oars and a cox")), &stop).await.unwrap();
        let stranger = Node::start(node_plan("towpath", net.at(4), Some("six oars")), &stop).await.unwrap();
        let (status, mut units) = taking(&node, &format!("stave://{at}/Finish Tower"), &stop);
        let (refused, _none) = taking(&stranger, &format!("stave://{at}/Finish Tower"), &stop);
        for turn in 0..2 {
            let (show, camera, _folder) = offering(net, port, "eight oars and a cox", 0.4, "").await;
            let unit = timeout(PATIENCE, units.recv()).await.unwrap().unwrap();
            assert!(unit.head.fresh, "{turn}");
            if turn == 0 {
                let wrong = |live: &Live| live.contact.fault() == Some(choir_core::facts::Fault::Passphrase);
                choir_rig::until("refused", PATIENCE, || refused.look(), wrong).await;
                assert!(
                    refused.look().notices().any(|n| n.to_string().contains("group keys of the two ends differ")),
                    "{:?}",
                    refused.look()
                );
            }
            show.stop().await;
            camera.now();
            while let Ok(Some(_)) = timeout(Duration::from_millis(300), units.recv()).await {}
        }
        assert!(status.look().notices().any(|n| n.to_string().contains("ends its show")), "{:?}", status.look());
    });
}

#[test]
fn an_intra_stream_is_told_as_one_and_comes_by_its_group_with_sealed_packets() {
    run(async {
        let net = choir_rig::net();
        let port = choir_rig::port();
        let group = choir_rig::port();
        let (show, _camera, _folder) =
            offering(net, port, "eight oars and a cox", 0.04, &format!(", multicast = \"239.20.0.53:{group}\"")).await;
        let (_end, stop) = Stop::new();
        let node = Node::start(node_plan("desk", net.at(3), Some("eight oars and a cox")), &stop).await.unwrap();
        let at = SocketAddr::from((net.at(1), port));
        let ways = Ways { nodes: vec![at], ..Ways::default() };
        let roster = node.seek(ways, &stop);
        let seen = known(&roster, "an intra stream", |k| k.iter().any(|n| n.sources().iter().any(|s| !s.streams.is_empty()))).await;
        let source = &seen[0].sources()[0];
        assert_eq!((source.streams[0].grade, source.streams[0].size, source.multicast), (Grade::Intra, Some((320, 180)), true));
        assert!(matches!(&seen[0].state, NodeState::Open(c) if c.secured == "key"));
        let (status, mut units) = taking(&node, &format!("stave://{at}/Finish Tower?carriage=multicast"), &stop);
        let mut numbers = Vec::new();
        while numbers.len() < 30 {
            let u = timeout(PATIENCE, units.recv()).await.unwrap().unwrap();
            if u.head.track == Track::Picture {
                assert!(u.head.keyframe);
                numbers.push(u.head.number);
            }
        }
        assert!(numbers.windows(2).all(|w| w[1] > w[0]), "{numbers:?}");
        assert!(status.look().how.is_some_and(|h| h.contains("intra from boathouse, by group")));
        show.stop().await;
    });
}

#[test]
fn a_directory_brings_nodes_together_and_names_of_machines_stay_apart() {
    run(async {
        let net = choir_rig::net();
        let (_end, stop) = Stop::new();
        let Directory { node, mut nodes } = serve_directory(node_plan("directory", net.at(9), None), &stop).await.unwrap();
        let (leave, gone) = Stop::new();
        let mut rosters = Vec::new();
        for (n, stop) in [(1, &gone), (2, &stop)] {
            let one = Node::start(node_plan(&format!("machine-{n}"), net.at(n), None), stop).await.unwrap();
            rosters.push((one.seek(Ways { directory: Some(node.at()), announce: true, ..Ways::default() }, stop), one));
        }
        timeout(PATIENCE, nodes.wait_for(|n| n.len() == 2)).await.unwrap().unwrap();
        known(&rosters[1].0, "the other", |k| k.iter().any(|n| n.entry.machine == "machine-1" && matches!(n.state, NodeState::Open(_))))
            .await;
        leave.now();
        rosters[0].1.ended().await;
        known(&rosters[1].0, "nobody", <[Known]>::is_empty).await;
        // By multicast, two of one name: the later one gets a number.
        let by = |n: u8| Some(LanPlan::by(Some(net.at(n).into())));
        let mut names = Vec::new();
        for n in [1, 2] {
            let mut plan = node_plan("boathouse", net.at(n), None);
            plan.seed = n.to_string();
            let one = Node::start(plan, &stop).await.unwrap();
            let roster = one.seek(Ways { lan: by(n), announce: true, ..Ways::default() }, &stop);
            names.push((roster, one));
            // Started at different times, as anything is.
            tokio::time::sleep(Duration::from_millis(3)).await;
        }
        known(&names[0].0, "the second by its new name", |k| k.iter().any(|n| n.entry.machine == "boathouse (2)")).await;
        assert_eq!(names[0].1.machine(), "boathouse");
    });
}

#[test]
fn the_same_links_twice_on_one_machine_are_two_nodes_that_see_each_other() {
    run(async {
        let (_end, stop) = Stop::new();
        let ip = choir_rig::net().at(1);
        let identity = Identity::passing().unwrap();
        let mut nodes = Vec::new();
        for _ in 0..2 {
            // The same user, machine, address and links: only the port that is left differs.
            let plan = NodePlan { identity: identity.clone(), ..node_plan("boathouse", ip, None) };
            let one = Node::start(plan, &stop).await.unwrap();
            let roster = one.seek(Ways { lan: Some(LanPlan::by(Some(ip.into()))), announce: true, ..Ways::default() }, &stop);
            assert!(!roster.has_no_network(), "that is not known before it has looked");
            nodes.push((roster, one));
        }
        let at: Vec<SocketAddr> = nodes.iter().map(|(_, n)| n.at()).collect();
        for (n, (roster, _)) in nodes.iter().enumerate() {
            known(roster, "the other", |k| k.iter().any(|k| k.at == at[1 - n] && matches!(k.state, NodeState::Open(_)))).await;
            assert!(!roster.has_no_network());
        }
    });
}

#[test]
fn orders_reach_the_camera_behind_a_name_within_bounds_and_are_answered() {
    run(async {
        let net = choir_rig::net();
        let (_end, stop) = Stop::new();
        let tower = Node::start(node_plan("boathouse", net.at(1), None), &stop).await.unwrap();
        let (desk, mut camera) = mpsc::channel(4);
        for (name, camera) in [("Finish Tower", Some(desk)), ("Start Pontoon", None)] {
            let (main, status) = (Outlet::new(), LinkStatus::new());
            tower.spawn_source(
                SourcePlan { name: name.into(), streams: vec![StreamPlan::Main(main)], camera, group: None, carries: None, status },
                stop.clone(),
            );
        }
        let node = Node::start(node_plan("desk", net.at(2), None), &stop).await.unwrap();
        let order = |name: &str, verb: CameraVerb| {
            let (give, orders) = mpsc::channel(1);
            let Link::Stave(wish) = link(&format!("stave://{}/{name}", tower.at())) else { panic!("no name") };
            let plan = TakePlan { orders: Some(orders), ..TakePlan::of(&node, wish, LinkStatus::new()) };
            spawn_take(plan, stop.clone());
            let (tell, told) = oneshot::channel();
            give.try_send((verb, tell)).unwrap();
            told
        };
        let fast = CameraVerb::Move { pan: 7.0, tilt: -0.5, zoom: 0.0, for_ms: 60_000 };
        let told = order("Finish Tower", fast);
        let (verb, answer) = timeout(PATIENCE, camera.recv()).await.unwrap().unwrap();
        assert_eq!(verb, CameraVerb::Move { pan: 1.0, tilt: -0.5, zoom: 0.0, for_ms: 10_000 }, "within what a camera may be told");
        answer.send(Err("it is at its end".into())).unwrap();
        let told = timeout(PATIENCE, told).await.unwrap().unwrap();
        assert!(!told.done && told.why == "it is at its end", "{told:?}");
        let told = timeout(PATIENCE, order("Start Pontoon", CameraVerb::Home)).await.unwrap().unwrap();
        assert!(!told.done && told.why.contains("not steered by name"), "{told:?}");
    });
}

fn lan(machine: &str, ip: Ipv4Addr) -> StaveSettings {
    StaveSettings { machine: Some(machine.into()), group: group(Net::of(ip)), address: Some(ip.into()), ..StaveSettings::default() }
}

#[test]
fn a_camera_by_itself_gives_every_grade_its_sound_and_its_lamp() {
    run(async {
        let net = choir_rig::net();
        let (end, stop) = Stop::new();
        let nowhere = Link::File(FileLink::once(None));
        let picture =
            CameraSettings { size: (320, 180), keyframe: 0.4, bitrate: Bitrate(1_000_000), ..CameraSettings::new("dock", nowhere) };
        let settings = NamedCameraSettings {
            name: "Winners Dock".into(),
            lan: lan("dock", net.at(1)),
            base: ".".into(),
            picture,
            intra: Some(Bitrate(8_000_000)),
            channels: 16,
            sub: Some((160, 96)),
            turns: false,
        };
        let camera = start_named(settings, stop.clone()).await.unwrap();
        let node = Node::start(node_plan("desk", net.at(3), None), &stop).await.unwrap();
        node.seek(Ways { lan: Some(LanPlan::by(Some(net.at(3).into()))), ..Ways::default() }, &stop);
        let url = |query: &str| format!("stave://{}/winners dock{query}", camera.node.at());
        for (query, grade, keyframes) in [("", "intra", true), ("?grade=long-gop", "long-gop", false), ("?grade=sub", "sub", false)] {
            let (quit, gone) = Stop::new();
            let (status, mut units) = taking(&node, &url(query), &gone);
            let (mut all_keys, mut pictures, mut sound) = (true, 0, 0);
            let mut last: Option<i64> = None;
            while pictures < 20 || sound < 20 {
                let u = timeout(PATIENCE, units.recv()).await.unwrap().unwrap();
                match u.head.track {
                    Track::Picture => {
                        pictures += 1;
                        all_keys &= u.head.keyframe;
                        assert!(last.is_none_or(|l| u.head.pts > l) && u.head.timecode.is_some());
                        last = Some(u.head.pts);
                    }
                    // A fortieth of a second of 24 bits in 16 channels, or an AAC frame.
                    Track::Sound if grade == "intra" => {
                        sound += 1;
                        assert_eq!(u.data.data.len(), 1920 * 16 * 3);
                    }
                    Track::Sound => sound += usize::from(u.data.data[0] == 0xFF),
                    Track::Facts => {}
                }
            }
            assert_eq!(all_keys, keyframes, "{grade}");
            let how = status.look().how.unwrap_or_default();
            assert!(how.starts_with(&format!("{grade} from dock")), "{how}");
            quit.now();
        }
        // In a show the first eight channels go on, which is told; what it shows lights the lamp.
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n[stave]\nmachine = \"jury\"\naddress = \"{net}.2\"\ngroup = \"{}\"\n\
             [[line]]\nname = \"dock\"\nfrom = \"stave://dock/Winners Dock\"\n[[feed]]\nname = \"on\"\nline = \"dock\"\nstave = \"Dock Again\"\n",
            group(net)
        );
        let show = Show::start(&read_sheet(&text).0.unwrap(), Path::new(".")).await.unwrap();
        let view = until(&show, "pictures with sound", |v| {
            v.lines[0].media.size == Some((320, 180)) && v.lines[0].media.audio.as_deref().is_some_and(|a| a.contains("channels"))
        })
        .await;
        assert_eq!(view.lines[0].media.audio.as_deref(), Some("PCM (ST 302) 48 kHz 8 channels"));
        assert!(view.events.iter().any(|e| e.text.contains("16 channels: a transport stream carries the first 8")), "{:#?}", view.events);
        let (status, mut again) = taking(&node, "stave://jury/Dock Again", &stop);
        while timeout(PATIENCE, again.recv()).await.unwrap().unwrap().head.track != Track::Sound {}
        let mut lamp = camera.tally();
        status.control.set_tally(Some(TallyView::OnAir));
        timeout(PATIENCE, lamp.wait_for(|t| *t == Some(TallyView::OnAir))).await.unwrap().unwrap();
        // Gone without a word: dark again.
        show.stop().await;
        timeout(PATIENCE, lamp.wait_for(Option::is_none)).await.unwrap().unwrap();
        end.now();
        camera.wait().await;
    });
}

#[test]
fn orders_and_tally_reach_a_device_through_two_shows_and_moves_end_by_themselves() {
    run(async {
        let net = choir_rig::net();
        let (end, stop) = Stop::new();
        let at = net.at(11);
        let device =
            device::start(device::Settings::ptz_camera("tower", at, Credentials::new("desk", "four oars")), stop.clone()).await.unwrap();
        let stave = |machine: &str, n: u8| {
            format!(
                "[show]\nname = \"Tarn Hollow Regatta\"\n[stave]\nmachine = \"{machine}\"\naddress = \"{net}.{n}\"\ngroup = \"{}\"\n",
                group(net)
            )
        };
        let near = format!(
            "{}[[device]]\nname = \"tower\"\naddress = \"{at}:8000\"\ncontrol = \"onvif\"\nuser = \"desk\"\npassword = \"four oars\"\n\
             tally = \"visca\"\nmain = {{ line = \"tower\" }}\n[[line]]\nname = \"tower\"\nfrom = \"rtsp://desk:four%20oars@{at}:8554/main\"\n\
             [[feed]]\nname = \"on\"\nline = \"tower\"\nstave = {{ name = \"Finish Tower\", steer = true }}\n",
            stave("boathouse", 1)
        );
        let far = format!(
            "{}[[line]]\nname = \"tower\"\nfrom = \"stave://Finish Tower\"\n[[feed]]\nname = \"on\"\nline = \"tower\"\n\
             stave = {{ name = \"Tower For The Jury\", steer = true }}\n",
            stave("jury", 2)
        );
        let near = Show::start(&read_sheet(&near).0.unwrap(), Path::new(".")).await.unwrap();
        let far = Show::start(&read_sheet(&far).0.unwrap(), Path::new(".")).await.unwrap();
        let node = Node::start(node_plan("desk", net.at(3), None), &stop).await.unwrap();
        node.seek(Ways { lan: Some(LanPlan::by(Some(net.at(3).into()))), ..Ways::default() }, &stop);
        let seek = |name: &str| {
            let Link::Stave(wish) = link(&format!("stave://{name}")) else { panic!("no name") };
            NamedCamera::seek(&node, wish, Vec::new(), None, &stop)
        };
        let camera = seek("Tower For The Jury");
        // The first order waits until the names are known.
        while camera.order(CameraVerb::Home).await.is_err() {}
        let sweep = CameraVerb::Move { pan: 0.5, tilt: 0.0, zoom: 0.0, for_ms: 300 };
        camera.order(sweep).await.unwrap();
        choir_rig::until("still", PATIENCE, || device.turns(), |turns| !turns).await;
        let (pan, ..) = device.looks();
        assert!((0.05..0.6).contains(&pan), "it moved for its time and stopped: {pan}");
        let refused = camera.order(CameraVerb::Preset { number: 77 }).await.unwrap_err().to_string();
        assert!(refused.contains("there is no preset \"77\""), "{refused}");
        camera.order(CameraVerb::Home).await.unwrap();
        choir_rig::until("back", PATIENCE, || device.turns(), |turns| !turns).await;
        assert_eq!(device.looks().0, 0.0);
        // Nobody asked for its pictures, and its lamp is dark; then a receiver shows it.
        assert!(!device.tally());
        let (status, mut units) = taking(&node, "stave://jury/Tower For The Jury", &stop);
        timeout(PATIENCE, units.recv()).await.unwrap().unwrap();
        status.control.set_tally(Some(TallyView::Next));
        until(&near, "next", |v| v.lines[0].tally == Some(TallyView::Next)).await;
        assert!(!device.tally(), "a lamp says what is on air, no more");
        status.control.set_tally(Some(TallyView::OnAir));
        until(&near, "on air", |v| v.lines[0].tally == Some(TallyView::OnAir)).await;
        choir_rig::until("lit", PATIENCE, || device.tally(), |lit| *lit).await;
        // A show that ends leaves no lamp lit, and no camera moving.
        camera.order(CameraVerb::Move { pan: -0.2, tilt: 0.0, zoom: 0.0, for_ms: 10_000 }).await.unwrap();
        near.stop().await;
        assert!(!device.tally() && !device.turns());
        far.stop().await;
        end.now();
        device.wait().await;
    });
}

#[test]
fn the_small_picture_of_a_feed_goes_with_takes_together() {
    run(async {
        let net = choir_rig::net();
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("key"), "eight oars and a cox\n").unwrap();
        let (end, stop) = Stop::new();
        let (mut cameras, mut lines) = (Vec::new(), String::new());
        for (name, sub, small) in [("tower", "sub = \"tower-sub\"\n", (160, 96)), ("dock", "sub = \"dock-sub\"\n", (256, 144))] {
            for (name, sub, size) in [(name.to_owned(), sub, (320, 180)), (format!("{name}-sub"), "", small)] {
                let from = choir_rig::port();
                cameras.push(camera(from, size, 0.4, stop.clone()).await);
                lines.push_str(&format!("[[line]]\nname = \"{name}\"\nfrom = \"udp://127.0.0.1:{from}\"\n{sub}"));
            }
        }
        lines.push_str("[[feed]]\nname = \"tower\"\nline = \"tower\"\nstave = \"Finish Tower\"\n");
        let (here, base) = sheet(net, &format!("machine = \"boathouse\"\naddress = \"{net}.1\""), &lines, folder.path());
        let show = Show::start(&here, &base).await.unwrap();
        let wanted = "[[line]]\nname = \"small\"\nfrom = \"stave://boathouse/Finish Tower?grade=sub\"\n";
        let (there, base) = sheet(net, &format!("machine = \"jury\"\naddress = \"{net}.2\""), wanted, folder.path());
        let other = Show::start(&there, &base).await.unwrap();
        let is = |v: &ShowView, size: (u32, u32)| v.lines[0].media.size == Some(size);
        until(&other, "the tower's small picture", |v| is(v, (160, 96))).await;
        let (feed, line) = (show.feed_named("tower").unwrap(), show.line_named("dock").unwrap());
        show.execute(By::CommandLine, Command::TakeTogether(vec![(feed, line)])).await.unwrap();
        until(&other, "the dock's small picture", |v| is(v, (256, 144))).await;
        other.stop().await;
        show.stop().await;
        end.now();
    });
}

/// Offers "Finish Tower" with pictures that are handed in.
fn made(source: &Node, stop: &Stop) -> mpsc::Sender<MadeUnit> {
    let (give, units) = mpsc::channel(8);
    let offer =
        StreamOffer { id: 0, grade: Grade::Intra, codec: "h264".into(), size: Some((320, 180)), rate: Some(25.0), bitrate: 0, sound: None };
    let streams = vec![StreamPlan::Made(Box::new(offer), units)];
    let status = LinkStatus::new();
    let plan = SourcePlan { name: "Finish Tower".into(), streams, camera: None, group: None, carries: None, status };
    source.spawn_source(plan, stop.clone());
    give
}

/// The `n`th picture, of so many bytes.
fn picture(n: i64, size: usize) -> MadeUnit {
    MadeUnit { track: Track::Picture, keyframe: true, pts: n * 3600, data: vec![0x65; size].into() }
}

#[test]
fn receivers_that_fall_silent_keep_no_large_picture_from_the_others() {
    run(async {
        let net = choir_rig::net();
        let (_end, stop) = Stop::new();
        let source = Node::start(node_plan("boathouse", net.at(1), None), &stop).await.unwrap();
        let give = made(&source, &stop);
        let url = format!("stave://{}/Finish Tower", source.at());
        let elsewhere = Runtime::new().unwrap();
        let mut number = 0..;
        let mut join = async |n: u8, on: &tokio::runtime::Handle| {
            let (url, stop) = (url.clone(), stop.clone());
            let started = on.spawn(async move {
                let node = Node::start(node_plan("desk", net.at(n), None), &stop).await.unwrap();
                taking(&node, &url, &stop).1
            });
            let mut units = started.await.unwrap();
            while timeout(Duration::from_millis(50), units.recv()).await.is_err() {
                give.send(picture(number.next().unwrap(), 100)).await.unwrap();
            }
            units
        };
        // Those who came first go first.
        let mut silent = Vec::new();
        for n in 3..10 {
            silent.push(join(n, elsewhere.handle()).await);
        }
        let mut there = join(10, &tokio::runtime::Handle::current()).await;
        elsewhere.shutdown_background();
        for n in 0..30 {
            give.send(picture(1000 + n, 100_000)).await.unwrap();
            loop {
                let unit = timeout(PATIENCE, there.recv()).await.expect("it comes").unwrap();
                assert!(!unit.gap, "none is missing before the {n}th");
                if unit.data.data.len() == 100_000 && unit.head.pts == (1000 + n) * 3600 {
                    break;
                }
            }
        }
    });
}

#[test]
fn only_certificates_that_are_pinned_come_in_and_only_pinned_sources_are_taken() {
    run(async {
        let net = choir_rig::net();
        let (_end, stop) = Stop::new();
        let (known, stranger) = (Identity::passing().unwrap(), Identity::passing().unwrap());
        let plan = node_plan("boathouse", net.at(1), None);
        let here = plan.identity.fingerprint().to_owned();
        let source = Node::start(NodePlan { receivers: vec![known.fingerprint().into()], ..plan }, &stop).await.unwrap();
        let give = made(&source, &stop);
        let feeding = tokio::spawn(async move {
            let mut tick = tokio::time::interval(Duration::from_millis(40));
            for n in 0i64.. {
                tick.tick().await;
                if give.send(picture(n, 100)).await.is_err() {
                    return;
                }
            }
        });
        let url = format!("stave://{}/Finish Tower", source.at());
        let mut nodes = Vec::new();
        for (n, identity) in [(3, &known), (4, &stranger), (5, &known)] {
            let plan = NodePlan { identity: identity.clone(), seed: n.to_string(), ..node_plan("desk", net.at(n), None) };
            nodes.push(Node::start(plan, &stop).await.unwrap());
        }
        let take = |node: &Node, pins: &[String]| {
            let (tap, units) = mpsc::unbounded_channel();
            let status = LinkStatus::new();
            let Link::Stave(link) = link(&url) else { panic!("no name") };
            let plan = TakePlan { pins: pins.to_vec(), tap: Some(tap), ..TakePlan::of(node, link, status.clone()) };
            spawn_take(plan, stop.clone());
            (status, units)
        };
        let (_, mut good) = take(&nodes[0], std::slice::from_ref(&here));
        assert!(timeout(PATIENCE, good.recv()).await.unwrap().is_some());
        let mut refused = Vec::new();
        for (node, pins, says) in
            [(&nodes[1], [].as_slice(), "certificate"), (&nodes[2], &["0".repeat(64)], "not among the sources that the sheet allows")]
        {
            let (status, units) = take(node, pins);
            let told = |live: &Live| live.notices().any(|n| n.is_trouble() && n.to_string().contains(says));
            choir_rig::until("told", PATIENCE, || status.look(), told).await;
            assert_eq!(status.look().contact.fault(), Some(choir_core::facts::Fault::Login), "{says}");
            refused.push(units);
        }
        assert!(refused.iter_mut().all(|u| u.try_recv().is_err()), "not one picture for a stranger");
        feeding.abort();
    });
}

#[test]
fn a_lamp_that_cannot_be_reached_is_told_once_and_follows_when_its_camera_is_back() {
    run(async {
        let net = choir_rig::net();
        let (end, stop) = Stop::new();
        let at = net.at(11);
        let from = choir_rig::port();
        camera(from, (320, 180), 0.4, stop.clone()).await;
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n[stave]\nmachine = \"boathouse\"\naddress = \"{net}.1\"\ngroup = \"{}\"\n\
             [[device]]\nname = \"tower\"\naddress = \"{at}\"\ncontrol = \"visca\"\ntally = \"visca\"\nmain = {{ line = \"tower\" }}\n\
             [[line]]\nname = \"tower\"\nfrom = \"udp://127.0.0.1:{from}\"\n[[feed]]\nname = \"on\"\nline = \"tower\"\nstave = \"Finish Tower\"\n",
            group(net)
        );
        let show = Show::start(&read_sheet(&text).0.unwrap(), Path::new(".")).await.unwrap();
        let lamp =
            |v: &ShowView, says: &str| v.events.iter().filter(|e| e.text.contains("tally lamp of tower") && e.text.contains(says)).count();
        until(&show, "the lamp is missed", |v| lamp(v, "cannot switch") == 1).await;
        let node = Node::start(node_plan("desk", net.at(3), None), &stop).await.unwrap();
        node.seek(Ways { lan: Some(LanPlan::by(Some(net.at(3).into()))), ..Ways::default() }, &stop);
        let (status, mut units) = taking(&node, "stave://Finish Tower", &stop);
        timeout(PATIENCE, units.recv()).await.unwrap().unwrap();
        status.control.set_tally(Some(TallyView::OnAir));
        until(&show, "on air", |v| v.feeds[0].tally == Some(TallyView::OnAir)).await;
        let device =
            device::start(device::Settings::ptz_camera("tower", at, Credentials::new("desk", "four oars")), stop.clone()).await.unwrap();
        let view = until(&show, "the lamp follows", |v| lamp(v, "follows again") == 1).await;
        assert_eq!(lamp(&view, "cannot switch"), 1, "{:#?}", view.events);
        assert!(device.tally());
        // The receiver hangs up: nothing is shown any more.
        status.control.set_held(true);
        choir_rig::until("dark", PATIENCE, || device.tally(), |lit| !lit).await;
        show.stop().await;
        end.now();
        device.wait().await;
    });
}

#[test]
fn forged_announcements_neither_take_a_name_off_nor_rename_anybody_nor_fill_the_roster() {
    run(async {
        let net = choir_rig::net();
        let (show, _camera, _folder) = offering_to(net, choir_rig::port(), "eight oars and a cox", 0.4, "", true).await;
        let (_end, stop) = Stop::new();
        let node = Node::start(node_plan("jury", net.at(3), Some("eight oars and a cox")), &stop).await.unwrap();
        let ways = Ways { lan: Some(LanPlan::by(Some(net.at(3).into()))), announce: true, ..Ways::default() };
        let roster = node.seek(ways, &stop);
        let has_it = |k: &[Known]| k.iter().any(|n| n.sources().iter().any(|s| !s.streams.is_empty()));
        let seen = known(&roster, "the name", has_it).await;
        let (status, mut units) = taking(&node, "stave://Finish Tower", &stop);
        timeout(PATIENCE, units.recv()).await.unwrap().unwrap();
        let sessions = status.look().sessions;
        let socket = MulticastSocket::open(MDNS, net.at(9)).unwrap();
        let say = |instance: &str, node: &str, boot: u64, ttl: u32| {
            let facts = [("v", "1"), ("node", node), ("boot", &boot.to_string()), ("group", &group(net))];
            let service = Service {
                instance: instance.into(),
                service: choir_proto::stave::SERVICE.into(),
                host: "stave-forged".into(),
                ip: Some(net.at(8)),
                port: 9,
                ttl,
                facts: facts.map(|(k, v)| (k.to_owned(), v.to_owned())).into(),
            };
            socket.send(&announcement(0, &service));
        };
        // Started anew at another address, started before, gone; and an older node with this one's
        // name.
        let true_node = seen.iter().find(|k| has_it(std::slice::from_ref(k))).unwrap().entry.clone();
        for boot in [0, true_node.boot + 1, u64::MAX] {
            say(&true_node.machine, &true_node.node, boot, 120);
            say("somebody else", &true_node.node, boot, 120);
            say(&true_node.machine, &true_node.node, boot, 0);
        }
        say("jury", "0000", 0, 120);
        (0..300).for_each(|n| say(&format!("fake {n}"), &format!("fake-{n}"), 7, 120));
        // They have been heard by the time that one of the last is known; and the name goes on.
        let all = known(&roster, "forged nodes", |k| k.iter().filter(|n| n.entry.node.starts_with("fake-")).count() > 20).await;
        assert!(all.len() < 40, "{} nodes of one address are kept", all.len());
        for _ in 0..60 {
            timeout(PATIENCE, units.recv()).await.unwrap().unwrap();
        }
        let still = roster.known().into_iter().find(|k| k.entry.node == true_node.node).unwrap();
        assert!(matches!(still.state, NodeState::Open(_)), "{still:?}");
        assert_eq!((&still.entry.machine, still.entry.boot, still.at), (&true_node.machine, true_node.boot, seen[0].at));
        assert_eq!((status.look().sessions, node.machine()), (sessions, "jury".into()));
        show.stop().await;
    });
}
