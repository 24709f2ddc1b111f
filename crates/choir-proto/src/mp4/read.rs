//! What is in a file: its samples with their times and places, and each as a unit of a stream.

use super::boxes::{Numbers, boxes, find, head, path};
use crate::{
    audio::AacConfig,
    h26x::{DecoderRecord, with_start_codes},
    ts::StreamKind,
};
use std::io::{self, Read, Seek, SeekFrom};

/// Largest description that is read (of hours), and largest of a fragment.
const MOVIE_MOST: u64 = 64 << 20;
/// Samples that a file may have: ten hours of pictures and sound.
const SAMPLES_MOST: usize = 4 << 20;
/// Largest sample.
const SAMPLE_MOST: u32 = 32 << 20;
/// Ticks a second of all times that are given.
const SCALE: i128 = 90_000;

/// Why a file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum Mp4Error {
    /// It cannot be read.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// It is no MP4 file, or its description is damaged.
    #[error("it is no whole MP4 file: {0}")]
    Damaged(&'static str),
    /// Nothing in it can be used here.
    #[error("it has no H.264 or H.265 picture: {0}")]
    NoPicture(String),
}

/// One access unit's place and time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sample {
    /// Of the pictures, not the sound.
    pub video: bool,
    /// Where it begins in the file.
    pub offset: u64,
    /// Its bytes.
    pub size: u32,
    /// Decoding time, 90 kHz, from 0 on.
    pub dts: u64,
    /// Presentation time.
    pub pts: u64,
    /// Decoding can start here.
    pub keyframe: bool,
}

/// How samples become units of a stream.
#[derive(Debug, Clone)]
pub enum SampleData {
    /// Pictures: how many bytes a length has, and the parameter sets with start codes.
    Picture {
        /// H.264 or H.265.
        kind: StreamKind,
        /// Bytes of a length.
        length: usize,
        /// VPS, SPS, PPS.
        sets: Vec<u8>,
    },
    /// AAC.
    Sound(AacConfig),
}

/// A file's description.
#[derive(Debug)]
pub struct Mp4File {
    /// Its pictures.
    pub picture: SampleData,
    /// Its sound, if it has any that is known.
    pub sound: Option<SampleData>,
    /// All of both, in the order of decoding.
    pub samples: Vec<Sample>,
}

/// One as its track has it.
#[derive(Debug, Clone, Copy)]
struct Placed {
    offset: u64,
    size: u32,
    dts: u64,
    /// From decoding to presentation.
    shown: i64,
    keyframe: bool,
}

#[derive(Debug)]
struct Track {
    number: u32,
    scale: u64,
    data: SampleData,
    /// What the edit list moves its times by: its own ticks, and those of the movie.
    starts: i64,
    waits: u64,
    /// Defaults of fragments: duration, size, flags.
    usual: [u32; 3],
    /// Where its next fragment goes on.
    time: u64,
    samples: Vec<Placed>,
}

impl Mp4File {
    /// Reads the description of a file.
    ///
    /// # Errors
    /// It cannot be read, is damaged, or has no picture that is known.
    pub fn read(file: &mut (impl Read + Seek)) -> Result<Self, Mp4Error> {
        let end = file.seek(SeekFrom::End(0))?;
        let (mut at, mut tracks, mut movie_scale) = (0u64, None::<Vec<Track>>, 1u64);
        let mut others = String::new();
        while at + 8 <= end {
            file.seek(SeekFrom::Start(at))?;
            let mut start = Vec::with_capacity(16);
            file.by_ref().take(16).read_to_end(&mut start)?;
            let (skip, kind, size) = head(&start).ok_or(Mp4Error::Damaged("a box has no size"))?;
            let size = size.unwrap_or(end - at);
            if at == 0 && !matches!(&kind, b"ftyp" | b"styp" | b"moov" | b"free" | b"skip" | b"wide" | b"mdat" | b"moof") {
                return Err(Mp4Error::Damaged("it does not begin as one"));
            }
            if matches!(&kind, b"moov" | b"moof") {
                if at + size > end || size > MOVIE_MOST {
                    // A last fragment that was cut off is left out.
                    if &kind == b"moof" {
                        break;
                    }
                    return Err(Mp4Error::Damaged("its description is cut off or too large"));
                }
                let mut inside = vec![0; (size - skip as u64) as usize];
                file.seek(SeekFrom::Start(at + skip as u64))?;
                file.read_exact(&mut inside)?;
                if &kind == b"moov" {
                    (tracks, movie_scale, others) = movie(&inside).ok_or(Mp4Error::Damaged("its description is damaged"))?;
                } else if let Some(tracks) = &mut tracks {
                    fragment(&inside, at, tracks).ok_or(Mp4Error::Damaged("a fragment is damaged"))?;
                }
            }
            at = at.checked_add(size.max(8)).ok_or(Mp4Error::Damaged("a box is too large"))?;
        }
        let tracks = tracks.ok_or(Mp4Error::Damaged("it has no description"))?;
        Self::of(tracks, movie_scale, end, &others)
    }

    fn of(tracks: Vec<Track>, movie_scale: u64, end: u64, others: &str) -> Result<Self, Mp4Error> {
        let mut all: Vec<(i128, i128, Sample)> = Vec::new();
        let (mut picture, mut sound) = (None, None);
        for track in tracks {
            let video = matches!(track.data, SampleData::Picture { .. });
            let place = if video { &mut picture } else { &mut sound };
            if place.is_some() {
                continue;
            }
            let (scale, waits) = (i128::from(track.scale.max(1)), i128::from(track.waits) * SCALE / i128::from(movie_scale.max(1)));
            for Placed { offset, size, dts, shown, keyframe } in track.samples {
                let ticks = |t: i128| (t - i128::from(track.starts)) * SCALE / scale + waits;
                let (dts, pts) = (i128::from(dts), i128::from(dts) + i128::from(shown));
                // What is cut off at the end of the file is left out.
                if size > 0 && size <= SAMPLE_MOST && offset + u64::from(size) <= end {
                    all.push((ticks(dts), ticks(pts), Sample { video, offset, size, dts: 0, pts: 0, keyframe }));
                }
            }
            *place = Some(track.data);
        }
        let picture =
            picture.ok_or_else(|| Mp4Error::NoPicture(if others.is_empty() { "no track is known".into() } else { others.to_owned() }))?;
        all.sort_by_key(|(dts, _, s)| (*dts, !s.video));
        let first = all.first().map_or(0, |(dts, ..)| *dts);
        let timed = |(dts, pts, s): (i128, i128, Sample)| Sample { dts: (dts - first) as u64, pts: (pts - first).max(0) as u64, ..s };
        let samples: Vec<Sample> = all.into_iter().map(timed).collect();
        if !samples.iter().any(|s| s.video) {
            return Err(Mp4Error::NoPicture("its picture has no samples".into()));
        }
        Ok(Self { picture, sound, samples })
    }

    /// What the samples of its pictures, or of its sound, are.
    #[must_use]
    pub fn data(&self, video: bool) -> Option<&SampleData> {
        if video { Some(&self.picture) } else { self.sound.as_ref() }
    }
}

impl SampleData {
    /// A sample as a unit of a stream: byte stream with start codes, or ADTS.
    #[must_use]
    pub fn unit(&self, data: &[u8], keyframe: bool) -> Vec<u8> {
        match self {
            Self::Sound(config) => config.adts_header(data.len()).iter().flatten().chain(data).copied().collect(),
            Self::Picture { length, sets, .. } => {
                let mut out = Vec::with_capacity(data.len() + sets.len() + 16);
                if keyframe {
                    out.extend_from_slice(sets);
                }
                // Of a damaged one what can be read.
                let _ = with_start_codes(*length, data, &mut out, |_| true);
                out
            }
        }
    }
}

/// Its tracks, the movie's ticks a second, and the codecs that are not known.
fn movie(data: &[u8]) -> Option<(Option<Vec<Track>>, u64, String)> {
    let mut header = Numbers(find(data, b"mvhd")?);
    let (version, _) = header.full()?;
    header.skip(if version == 1 { 16 } else { 8 })?;
    let scale = header.u32()?;
    let (mut tracks, mut others) = (Vec::new(), Vec::new());
    for (_, inside) in boxes(data).filter(|(kind, _)| kind == b"trak") {
        match track(inside) {
            Some(Ok(track)) => tracks.push(track),
            Some(Err(codec)) => others.push(codec),
            None => {}
        }
    }
    if let Some(extends) = find(data, b"mvex") {
        for (_, inside) in boxes(extends).filter(|(kind, _)| kind == b"trex") {
            let mut n = Numbers(inside);
            n.full()?;
            let (number, _, usual) = (n.u32()?, n.u32()?, [n.u32()?, n.u32()?, n.u32()?]);
            tracks.iter_mut().filter(|t: &&mut Track| t.number == number).for_each(|t| t.usual = usual);
        }
    }
    others.sort();
    Some((Some(tracks), scale.into(), others.join(", ")))
}

/// One that is known, or the name of its codec.
fn track(data: &[u8]) -> Option<Result<Track, String>> {
    let mut n = Numbers(find(data, b"tkhd")?);
    let (version, _) = n.full()?;
    n.skip(if version == 1 { 16 } else { 8 })?;
    let number = n.u32()?;
    let media = find(data, b"mdia")?;
    let mut n = Numbers(find(media, b"mdhd")?);
    let (version, _) = n.full()?;
    n.skip(if version == 1 { 16 } else { 8 })?;
    let scale = n.u32()?;
    let table = path(media, &[b"minf", b"stbl"])?;
    let (kind, entry) = boxes(find(table, b"stsd")?.get(8..)?).next()?;
    let Some(data_kind) = sample_data(kind, entry) else {
        return Some(Err(String::from_utf8_lossy(&kind).trim().chars().filter(|c| c.is_ascii_graphic()).collect()));
    };
    let (starts, waits) = path(data, &[b"edts", b"elst"]).map_or((0, 0), |list| edits(list).unwrap_or((0, 0)));
    let samples = samples(table)?;
    Some(Ok(Track { number, scale: scale.into(), data: data_kind, starts, waits, usual: [0; 3], time: 0, samples }))
}

/// Where the media begins, and how long the track waits before it.
fn edits(list: &[u8]) -> Option<(i64, u64)> {
    let mut n = Numbers(list);
    let (version, _) = n.full()?;
    let mut waits = 0;
    for _ in 0..n.u32()?.min(16) {
        let lasts = n.wide(version)?;
        let starts = if version == 1 { n.u64()? as i64 } else { i64::from(n.u32()? as i32) };
        n.u32()?;
        if starts >= 0 {
            return Some((starts, waits));
        }
        waits += lasts;
    }
    Some((0, waits))
}

fn sample_data(kind: [u8; 4], entry: &[u8]) -> Option<SampleData> {
    match &kind {
        b"avc1" | b"avc3" => {
            let record = DecoderRecord::parse(false, find(entry.get(78..)?, b"avcC")?)?;
            Some(SampleData::Picture { kind: StreamKind::H264, length: record.length, sets: record.start_coded() })
        }
        b"hvc1" | b"hev1" => {
            let record = DecoderRecord::parse(true, find(entry.get(78..)?, b"hvcC")?)?;
            Some(SampleData::Picture { kind: StreamKind::H265, length: record.length, sets: record.start_coded() })
        }
        b"mp4a" => {
            // Version 1 of a sound entry, as some write it, has 16 bytes more.
            let extra = if entry.get(8..10)? == [0, 1] { 16 } else { 0 };
            AacConfig::parse(specific(find(entry.get(28 + extra..)?, b"esds")?.get(4..)?)?).map(SampleData::Sound)
        }
        _ => None,
    }
}

/// The decoder's configuration in these descriptors, where it is AAC.
fn specific(mut data: &[u8]) -> Option<&[u8]> {
    loop {
        let mut n = Numbers(data);
        let tag = n.u8()?;
        let mut size = 0usize;
        for _ in 0..4 {
            let byte = n.u8()?;
            size = size << 7 | usize::from(byte & 127);
            if byte & 128 == 0 {
                break;
            }
        }
        match tag {
            3 => {
                n.skip(2)?;
                let flags = n.u8()?;
                n.skip(usize::from(flags >> 7) * 2)?;
                if flags & 0x40 != 0 {
                    let url = usize::from(n.u8()?);
                    n.skip(url)?;
                }
                n.skip(usize::from(flags >> 5 & 1) * 2)?;
            }
            // MPEG-4 sound, or MPEG-2 AAC-LC.
            4 => {
                if !matches!(n.u8()?, 0x40 | 0x67) {
                    return None;
                }
                n.skip(12)?;
            }
            5 => return n.0.get(..size),
            _ => n.skip(size)?,
        }
        data = n.0;
    }
}

/// All samples in the tables.
fn samples(table: &[u8]) -> Option<Vec<Placed>> {
    let numbers = |kind: &[u8; 4]| -> Option<(Numbers<'_>, u8)> {
        let mut n = Numbers(find(table, kind)?);
        let (version, _) = n.full()?;
        Some((n, version))
    };
    let (mut sizes, _) = numbers(b"stsz")?;
    let (same, count) = (sizes.u32()?, sizes.u32()? as usize);
    if count == 0 {
        return Some(Vec::new());
    }
    if count > SAMPLES_MOST || (same == 0 && sizes.0.len() / 4 < count) {
        return None;
    }
    let (mut times, _) = numbers(b"stts")?;
    let mut shown = numbers(b"ctts").map(|(n, version)| (n, version, 0u32, 0i64));
    if let Some((n, ..)) = &mut shown {
        n.u32()?;
    }
    let keyframes: Option<Vec<u32>> = numbers(b"stss").map(|(mut n, _)| {
        let count = n.u32().unwrap_or(0);
        (0..count).map_while(|_| n.u32()).collect()
    });
    let offsets = chunk_offsets(table)?;
    let (mut runs, _) = numbers(b"stsc")?;
    let runs: Vec<(u32, u32)> = {
        let count = runs.u32()?;
        let run = |n: &mut Numbers<'_>| Some((n.u32()?, n.u32()?, n.u32()?));
        (0..count).map_while(|_| run(&mut runs)).map(|(first, samples, _)| (first, samples)).collect()
    };
    times.u32()?;
    let (mut left, mut step, mut dts) = (0u32, 0u32, 0u64);
    let (mut chunk, mut in_chunk, mut offset, mut run) = (0usize, 0u32, 0u64, 0usize);
    let mut out = Vec::with_capacity(count.min(1 << 16));
    for n in 0..count {
        let size = if same == 0 { sizes.u32()? } else { same };
        if in_chunk == 0 {
            offset = *offsets.get(chunk)?;
            chunk += 1;
            while runs.get(run + 1).is_some_and(|(first, _)| *first as usize <= chunk) {
                run += 1;
            }
            in_chunk = runs.get(run)?.1;
            if in_chunk == 0 {
                return None;
            }
        }
        while left == 0 {
            (left, step) = (times.u32()?, times.u32()?);
        }
        let later = match &mut shown {
            Some((n, version, left, value)) => {
                while *left == 0 {
                    *left = n.u32()?;
                    *value = if *version == 1 { i64::from(n.u32()? as i32) } else { i64::from(n.u32()?) };
                }
                *left -= 1;
                *value
            }
            None => 0,
        };
        let keyframe = keyframes.as_ref().is_none_or(|k| k.binary_search(&(n as u32 + 1)).is_ok());
        out.push(Placed { offset, size, dts, shown: later, keyframe });
        offset = offset.checked_add(size.into())?;
        dts += u64::from(step);
        (left, in_chunk) = (left - 1, in_chunk - 1);
    }
    Some(out)
}

fn chunk_offsets(table: &[u8]) -> Option<Vec<u64>> {
    let (data, wide) = find(table, b"stco").map(|d| (d, false)).or_else(|| find(table, b"co64").map(|d| (d, true)))?;
    let mut n = Numbers(data);
    n.full()?;
    let count = n.u32()?;
    Some((0..count).map_while(|_| if wide { n.u64() } else { n.u32().map(u64::from) }).collect())
}

/// Adds the samples of a fragment that begins at `start` of the file.
fn fragment(data: &[u8], start: u64, tracks: &mut [Track]) -> Option<()> {
    for (_, inside) in boxes(data).filter(|(kind, _)| kind == b"traf") {
        let mut n = Numbers(find(inside, b"tfhd")?);
        let (_, flags) = n.full()?;
        let number = n.u32()?;
        let Some(track) = tracks.iter_mut().find(|t| t.number == number) else { continue };
        let base = if flags & 1 != 0 { n.u64()? } else { start };
        if flags & 2 != 0 {
            n.u32()?;
        }
        let mut usual = track.usual;
        for (place, value) in usual.iter_mut().enumerate() {
            if flags & 8 << place != 0 {
                *value = n.u32()?;
            }
        }
        if let Some(time) = find(inside, b"tfdt") {
            let mut n = Numbers(time);
            let (version, _) = n.full()?;
            track.time = n.wide(version)?;
        }
        let mut offset = base;
        for (_, run) in boxes(inside).filter(|(kind, _)| kind == b"trun") {
            let mut n = Numbers(run);
            let (version, flags) = n.full()?;
            let count = n.u32()? as usize;
            if flags & 1 != 0 {
                offset = base.checked_add_signed(i64::from(n.u32()? as i32))?;
            }
            let first = if flags & 4 != 0 { Some(n.u32()?) } else { None };
            if track.samples.len() + count > SAMPLES_MOST {
                return None;
            }
            for i in 0..count {
                let mut field = |bit: u32, usual: u32| if flags & bit != 0 { n.u32() } else { Some(usual) };
                let lasts = field(0x100, usual[0])?;
                let size = field(0x200, usual[1])?;
                let how = field(0x400, first.filter(|_| i == 0).unwrap_or(usual[2]))?;
                let shown = field(0x800, 0)?;
                let shown = if version == 0 { i64::from(shown) } else { i64::from(shown as i32) };
                // Whether it is no sync sample (ISO 14496-12, 8.8.3.1).
                track.samples.push(Placed { offset, size, dts: track.time, shown, keyframe: how & 0x1_0000 == 0 });
                offset = offset.checked_add(size.into())?;
                track.time = track.time.checked_add(lasts.into())?;
            }
            // A run without sizes of its own could go on for ever.
            if flags & 0x200 == 0 && usual[1] == 0 {
                return None;
            }
        }
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::{
        super::boxes::{make, make_full},
        *,
    };
    use std::io::Cursor;

    fn words(words: &[u32]) -> Vec<u8> {
        words.iter().flat_map(|w| w.to_be_bytes()).collect()
    }

    /// Five pictures in two chunks, the second a B-picture, behind an edit; as a camera's file has
    /// it.
    fn whole() -> Vec<u8> {
        let mut entry = vec![0; 78];
        let set = [0x67, 0x64, 0, 31];
        let c = [&[1, 100, 0, 31, 0xFF, 0xE1, 0, 4][..], &set, &[1, 0, 2, 0x68, 0xEE]].concat();
        entry.extend_from_slice(&make(b"avcC", &[&c]));
        let build = |data: u32| {
            let table = make(
                b"stbl",
                &[
                    &make_full(b"stsd", 0, 0, &[&words(&[1]), &make(b"avc1", &[&entry])]),
                    &make_full(b"stts", 0, 0, &[&words(&[2, 4, 100, 1, 200])]),
                    &make_full(b"ctts", 1, 0, &[&words(&[3, 1, 200, 1, 0, 3, 100])]),
                    &make_full(b"stss", 0, 0, &[&words(&[2, 1, 4])]),
                    &make_full(b"stsc", 0, 0, &[&words(&[2, 1, 3, 1, 2, 2, 1])]),
                    &make_full(b"stsz", 0, 0, &[&words(&[0, 5, 6, 7, 8, 9, 10])]),
                    &make_full(b"stco", 0, 0, &[&words(&[2, data, data + 50])]),
                ],
            );
            let media = make(b"mdia", &[&make_full(b"mdhd", 0, 0, &[&words(&[0, 0, 2500, 0, 0])]), &make(b"minf", &[&table])]);
            let edits = make(b"edts", &[&make_full(b"elst", 0, 0, &[&words(&[2, 500, u32::MAX, 0x1_0000, 9000, 100, 0x1_0000])])]);
            let track = make(b"trak", &[&make_full(b"tkhd", 0, 3, &[&words(&[0, 0, 1])]), &edits, &media]);
            make(b"moov", &[&make_full(b"mvhd", 0, 0, &[&words(&[0, 0, 1000])]), &track])
        };
        let head = make(b"ftyp", &[b"isom"]);
        let at = (head.len() + build(0).len() + 8) as u32;
        [head, build(at), make(b"mdat", &[&[0; 100]])].concat()
    }

    #[test]
    fn tables_of_a_whole_file_are_read() {
        let bytes = whole();
        let file = Mp4File::read(&mut Cursor::new(&bytes)).expect("read");
        let data = bytes.len() as u64 - 100;
        let seen: Vec<_> = file.samples.iter().map(|s| (s.offset - data, s.size, s.dts, s.pts, s.keyframe)).collect();
        // 2500 ticks a second: 100 are 3600 of 90 kHz.
        assert_eq!(
            seen,
            [
                (0, 6, 0, 7200, true),
                (6, 7, 3600, 3600, false),
                (13, 8, 7200, 10_800, false),
                (50, 9, 10_800, 14_400, true),
                (59, 10, 14_400, 18_000, false)
            ]
        );
        let unit = file.picture.unit(&[0, 0, 0, 2, 0x65, 0x88, 0, 0, 0, 1, 9], true);
        assert_eq!(unit, [0, 0, 0, 1, 0x67, 0x64, 0, 31, 0, 0, 0, 1, 0x68, 0xEE, 0, 0, 0, 1, 0x65, 0x88, 0, 0, 0, 1, 9]);
    }

    #[test]
    fn a_file_cut_at_any_length_or_changed_anywhere_is_an_error_or_less() {
        let bytes = whole();
        for n in 0..bytes.len() {
            let _ = Mp4File::read(&mut Cursor::new(&bytes[..n]));
            for value in [0, 1, 0x7F, 0xFF] {
                let mut other = bytes.clone();
                other[n] = value;
                if let Ok(file) = Mp4File::read(&mut Cursor::new(&other)) {
                    assert!(file.samples.len() < 100_000);
                }
            }
        }
        assert!(matches!(Mp4File::read(&mut Cursor::new(b"not a file at all")), Err(Mp4Error::Damaged(_))));
        assert!(Mp4File::read(&mut Cursor::new(Vec::new())).is_err());
    }
}
