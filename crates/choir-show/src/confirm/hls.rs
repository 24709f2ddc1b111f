//! The newest picture that a playlist leads to.

use crate::{
    media::LineMedia,
    web::{agent, failure, refusal},
};
use bytes::Bytes;
use choir_core::id::LineId;
use choir_ports::{Arrival, Intake as _};
use choir_proto::{
    hls::{PLAYLIST_MOST, Part, Playlist, Segment, resolve},
    mp4::{Mp4File, SampleData},
    ts::{AccessUnit, UnitFormat},
};
use std::{
    io::{Cursor, Read as _},
    sync::Arc,
    time::{Duration, Instant},
};

/// For each question, and for all of them.
const PATIENCE: Duration = Duration::from_secs(8);
/// Largest segment: twelve seconds of 20 Mbit/s.
const SEGMENT_MOST: u64 = 30 << 20;
/// Addresses that a server may lead on to.
const REDIRECTS: u32 = 3;
/// Pictures that a decoder may want before it shows the first.
const PICTURES: usize = 8;

/// Pictures of the newest segment from its first keyframe on. Asks a server: not for an async
/// task.
pub(super) fn newest(url: &str) -> Result<Vec<AccessUnit>, String> {
    let mut place = url.to_owned();
    // A list of versions, then one version's.
    for _ in 0..2 {
        let text = fetch(&Part { uri: place.clone(), range: None }, PLAYLIST_MOST as u64)?;
        let text = String::from_utf8(text).map_err(|_| "it is not a playlist: it is no text")?;
        match Playlist::read(&text)? {
            // The one that costs the least to look at.
            Playlist::Versions(all) => {
                let least = all.into_iter().min_by_key(|v| v.bandwidth).ok_or("the playlist lists nothing yet")?;
                place = resolve(&place, &least.uri);
            }
            Playlist::Segments(all) => {
                let newest = all.last().ok_or("the playlist lists nothing yet")?;
                return pictures(&place, newest);
            }
        }
    }
    Err("the playlist leads to nothing but playlists".into())
}

fn pictures(place: &str, segment: &Segment) -> Result<Vec<AccessUnit>, String> {
    if let Some(method) = &segment.encrypted {
        return Err(format!("its segments are encrypted ({method}), which is not read here"));
    }
    let at = |part: &Part| Part { uri: resolve(place, &part.uri), range: part.range };
    let media = fetch(&at(&segment.part), SEGMENT_MOST)?;
    match &segment.map {
        None => of_ts(media.into()),
        Some(map) => of_fragment([fetch(&at(map), SEGMENT_MOST)?, media].concat()),
    }
    .ok_or_else(|| "its newest segment has no picture that begins with a keyframe".into())
}

fn of_ts(bytes: Bytes) -> Option<Vec<AccessUnit>> {
    let media = LineMedia::new(LineId(0));
    let mut pictures = media.pictures();
    media.arrive(&mut vec![Arrival::ts(1, Instant::now(), bytes)]);
    pictures.try_recv().ok()
}

fn of_fragment(bytes: Vec<u8>) -> Option<Vec<AccessUnit>> {
    let file = Mp4File::read(&mut Cursor::new(&bytes)).ok()?;
    let SampleData::Picture { kind, .. } = &file.picture else { return None };
    let format = Arc::new(UnitFormat { streams: vec![*kind] });
    let from = file.samples.iter().filter(|s| s.video).skip_while(|s| !s.keyframe).take(PICTURES);
    let units = from.filter_map(|s| {
        let data = bytes.get(s.offset as usize..(s.offset + u64::from(s.size)) as usize)?;
        let data = file.picture.unit(data, s.keyframe).into();
        Some(AccessUnit {
            pid: 256,
            kind: *kind,
            pts: Some(s.pts),
            dts: None,
            keyframe: s.keyframe,
            arrived: 0,
            data,
            format: format.clone(),
        })
    });
    Some(units.collect::<Vec<_>>()).filter(|u| !u.is_empty())
}

/// A resource or a part of one, of at most so many bytes.
fn fetch(part: &Part, most: u64) -> Result<Vec<u8>, String> {
    let mut asked = agent(PATIENCE, REDIRECTS).get(&part.uri);
    if let Some((length, at)) = part.range {
        asked = asked.header("range", format!("bytes={at}-{}", at.saturating_add(length).saturating_sub(1)));
    }
    let mut answer = asked.call().map_err(|e| failure(e, PATIENCE))?;
    let status = answer.status().as_u16();
    if !answer.status().is_success() {
        return Err(refusal(status));
    }
    let mut bytes = Vec::new();
    let read = answer.body_mut().as_reader().take(most + 1).read_to_end(&mut bytes);
    read.map_err(|e| e.to_string())?;
    if bytes.len() as u64 > most {
        return Err(format!("its answer is larger than {} MiB", most >> 20));
    }
    // A server that does not give parts gives the whole.
    match part.range {
        Some((length, at)) if status == 200 => {
            let part = bytes.get(at as usize..at.saturating_add(length) as usize).ok_or("a part of a segment lies beyond its end")?;
            Ok(part.to_vec())
        }
        _ => Ok(bytes),
    }
}
