//! One connection of a viewer: requests in; answers, and packets if they go within it, out.

use super::{
    shared::Shared,
    viewers::{Entry, Lanes},
};
use choir_host::Stop;
use choir_proto::rtsp::{Inbox, Incoming, Method, Request, Response, frame_header};
use std::{
    io::{self, IoSlice},
    net::SocketAddr,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWrite, AsyncWriteExt},
    net::TcpStream,
};

/// Packets handed to the system in one go.
const BATCH: usize = 64;
/// How long a request for a description waits for the feed's first keyframe.
const FIRST_PICTURE: Duration = Duration::from_secs(4);
/// How long a connection may take to its first whole request, and from one to the next while no
/// packets go out.
const FIRST: Duration = Duration::from_secs(10);
const IDLE: Duration = Duration::from_secs(120);

/// Serves it until it closes.
pub(super) async fn serve(shared: Arc<Shared>, stream: TcpStream, peer: SocketAddr, number: u64, mut stop: Stop) {
    let _ = stream.set_nodelay(true);
    let Ok(local) = stream.local_addr() else { return };
    let (mut reader, mut writer) = stream.into_split();
    let lanes = Lanes::new();
    shared.connected(number, lanes.clone());
    let for_writer = lanes.clone();
    let write = async move {
        let _ = write_all(&for_writer, &mut writer).await;
        let _ = writer.shutdown().await;
    };
    let read = async {
        let mut inbox = Inbox::default();
        // A byte now and then holds no place.
        let mut due = Instant::now() + FIRST;
        loop {
            match tokio::time::timeout_at(due.into(), reader.read_buf(inbox.buffer())).await {
                Ok(Ok(n)) if n > 0 => {}
                Ok(_) => return,
                // Silence is fine while packets go out; the session's own timeout watches that.
                Err(_) if lanes.in_use() => {
                    due = Instant::now() + IDLE;
                    continue;
                }
                Err(_) => return,
            }
            loop {
                // Whoever asks without reading the answers is not read from.
                if !lanes.has_room().await {
                    return;
                }
                let taken = inbox.take();
                if matches!(taken, Ok(Some(_))) {
                    due = Instant::now() + IDLE;
                }
                match taken {
                    Ok(None) => break,
                    Ok(Some(Incoming::Request(request))) => {
                        await_picture(&shared, &request).await;
                        shared.answer((number, peer, local), &lanes, &request);
                    }
                    Ok(Some(Incoming::Frame(channel, data))) => shared.heard_on(number, channel, &data),
                    Ok(Some(Incoming::Response(_))) => {}
                    Err(_) => {
                        lanes.message(Response::new(400).to_bytes());
                        return;
                    }
                }
            }
        }
    };
    tokio::select! {
        () = read => {}
        () = write => {}
        () = lanes.closed() => {}
        () = stop.wait() => {}
    }
    shared.disconnected(number);
}

/// A feed that has just begun is described once its first keyframe has come.
async fn await_picture(shared: &Shared, request: &Request) {
    if request.method != Method::Describe {
        return;
    }
    let path = request.uri.split_once("://").and_then(|(_, r)| r.split_once('/')).map_or("", |(_, p)| p.trim_matches('/'));
    if let Some(mount) = shared.at_path(path) {
        mount.status.set_asked_for();
        let mut described = mount.described.subscribe();
        let _ = tokio::time::timeout(FIRST_PICTURE, described.wait_for(|d| *d)).await;
    }
}

async fn write_all(lanes: &Lanes, writer: &mut (impl AsyncWrite + Unpin)) -> io::Result<()> {
    let mut batch: Vec<Entry> = Vec::with_capacity(BATCH);
    loop {
        lanes.take(BATCH, &mut batch);
        if batch.is_empty() {
            lanes.wake.notified().await;
            continue;
        }
        let heads: Vec<Option<[u8; 4]>> = batch.iter().map(|(c, p)| c.map(|c| frame_header(c, p.len()))).collect();
        let mut slices: Vec<IoSlice<'_>> = Vec::with_capacity(2 * batch.len());
        for (head, (_, packet)) in heads.iter().zip(&batch) {
            slices.extend(head.as_ref().map(|h| IoSlice::new(h)));
            slices.push(IoSlice::new(packet));
        }
        let mut left = &mut slices[..];
        while !left.is_empty() {
            let n = writer.write_vectored(left).await?;
            if n == 0 {
                return Err(io::ErrorKind::WriteZero.into());
            }
            lanes.written(n, Instant::now());
            IoSlice::advance_slices(&mut left, n);
        }
        batch.clear();
    }
}
