//! Pictures and sound as they are coded.

use super::bounded;
use bytes::Bytes;
use choir_proto::{adts, audio::*, h26x::*};

/// Units, parameter sets, headers.
pub fn entry(data: &[u8]) {
    nal_units(data).for_each(|nal| {
        let _ = (parse_sps(nal), parse_hevc_sps(nal));
    });
    let _ = (is_keyframe(data), find_stamp(data), find_hevc_stamp(data));
    for hevc in [false, true] {
        if let Some(record) = DecoderRecord::parse(hevc, data) {
            bounded(record.start_coded().len(), 64 * data.len() + 64);
        }
        bounded(with_lengths(hevc, data).0.len(), 4 * data.len() + 64);
    }
    for length in [1, 2, 4] {
        let mut out = Vec::new();
        let _ = with_start_codes(length, data, &mut out, |_| true);
        bounded(out.len(), 5 * data.len() + 64);
    }
    bounded(adts::frames(data).count(), data.len());
    let _ = (AacConfig::parse(data), AacConfig::of_adts(data));
    if let Ok(mux) = StreamMux::parse(data) {
        let _ = mux.frames(&Bytes::copy_from_slice(data));
    }
    let _ = StreamMux::frames_in_band(&mut None, data);
    if let Some((channels, pcm)) = st302_samples(data) {
        bounded(pcm.len(), 2 * data.len() + 64);
        bounded(usize::from(channels), 16);
    }
    let _ = (st302_times(data), st302_last(data), st302_join(data, 1, &[]), st302_silence(data, 48, &[]));
}
