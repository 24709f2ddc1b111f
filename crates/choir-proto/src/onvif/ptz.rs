//! The PTZ service: presets, moves, position (ONVIF PTZ Service Specification, 5).

use super::{
    device::plain,
    soap::{Call, duration_text},
    xml::{Element, escape},
};
use std::time::Duration;

/// Moves across the picture: the ends of its range bring what is at the picture's edge to its
/// middle (ONVIF PTZ Service Specification, relative pan and tilt by the field of view).
const FIELD_OF_VIEW: &str = "http://www.onvif.org/ver10/tptz/PanTiltSpaces/TranslationSpaceFov";
/// Moves of the zoom by a part of its range, -1 to 1.
const ZOOM_TRANSLATION: &str = "http://www.onvif.org/ver10/tptz/ZoomSpaces/TranslationGenericSpace";

/// Presets that are read of one device.
const PRESETS_MAX: usize = 512;

/// Pan and tilt from -1 (left, down) to 1, zoom from 0 (wide) to 1; as speeds all from -1 to 1.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Vector {
    /// Pan.
    pub pan: f64,
    /// Tilt.
    pub tilt: f64,
    /// Zoom.
    pub zoom: f64,
}

/// A stored position.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Preset {
    /// The device's word for it.
    pub token: String,
    /// Its name.
    pub name: String,
    /// Where, when the device says.
    pub position: Option<Vector>,
}

/// Where the device looks.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Status {
    /// Position, when it says.
    pub position: Option<Vector>,
    /// Moving, when it says.
    pub moving: Option<bool>,
}

/// How far a device moves relative to its picture, as it says: ends of its ranges, from the middle
/// to the edge.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PictureMoves {
    /// Least and most to the right, and up.
    pub pan_tilt: [(f64, f64); 2],
    /// Least and most of the zoom, where that has moves of its own.
    pub zoom: Option<(f64, f64)>,
}

impl PictureMoves {
    /// The move that brings a point of the picture (-1 to 1 from its middle, right and up) to the
    /// middle, and moves the zoom by a part of its range.
    #[must_use]
    pub fn towards(&self, x: f64, y: f64, zoom: f64) -> Vector {
        let part = |v: f64, (least, most): (f64, f64)| if v < 0.0 { -v.max(-1.0) * least } else { v.min(1.0) * most };
        let [pan, tilt] = self.pan_tilt;
        Vector { pan: part(x, pan), tilt: part(y, tilt), zoom: self.zoom.map_or(0.0, |range| part(zoom, range)) }
    }
}

fn with_profile(name: &str, profile: &str, more: &str) -> Call {
    Call::new("tptz", name, &format!("<tptz:ProfileToken>{}</tptz:ProfileToken>{more}", escape(profile)))
}

/// Asks for the presets.
#[must_use]
pub fn get_presets(profile: &str) -> Call {
    with_profile("GetPresets", profile, "")
}

/// Reads the presets.
#[must_use]
pub fn read_presets(answer: &Element) -> Vec<Preset> {
    let one = |e: &Element| Preset {
        token: e.attribute("token").unwrap_or_default().to_owned(),
        name: plain(e.text_at("Name").unwrap_or_default()),
        position: e.child("PTZPosition").and_then(read_vector),
    };
    answer.all("Preset").take(PRESETS_MAX).map(one).collect()
}

/// Stores the present position under a name, in place of a preset if one is given.
#[must_use]
pub fn set_preset(profile: &str, name: &str, token: Option<&str>) -> Call {
    let token = token.map_or_else(String::new, |t| format!("<tptz:PresetToken>{}</tptz:PresetToken>", escape(t)));
    with_profile("SetPreset", profile, &format!("<tptz:PresetName>{}</tptz:PresetName>{token}", escape(name)))
}

/// The device's word for what was stored.
#[must_use]
pub fn read_stored(answer: &Element) -> Option<String> {
    answer.text_at("PresetToken").map(str::to_owned)
}

/// Goes to a preset.
#[must_use]
pub fn goto_preset(profile: &str, token: &str) -> Call {
    with_profile("GotoPreset", profile, &format!("<tptz:PresetToken>{}</tptz:PresetToken>", escape(token)))
}

/// Goes home.
#[must_use]
pub fn goto_home(profile: &str) -> Call {
    with_profile("GotoHomePosition", profile, "")
}

/// Moves at these speeds until stopped, at most this long.
#[must_use]
pub fn continuous_move(profile: &str, v: Vector, at_most: Duration) -> Call {
    let Vector { pan, tilt, zoom } = v;
    let inside = format!(
        "<tptz:Velocity><tt:PanTilt x=\"{pan}\" y=\"{tilt}\"/><tt:Zoom x=\"{zoom}\"/></tptz:Velocity><tptz:Timeout>{}</tptz:Timeout>",
        duration_text(at_most)
    );
    with_profile("ContinuousMove", profile, &inside)
}

/// Asks what a head can do.
#[must_use]
pub fn get_node(node: &str) -> Call {
    Call::new("tptz", "GetNode", &format!("<tptz:NodeToken>{}</tptz:NodeToken>", escape(node)))
}

/// Reads how a head moves relative to its picture; `None` when it has no such moves.
#[must_use]
pub fn read_picture_moves(answer: &Element) -> Option<PictureMoves> {
    let spaces = answer.at("PTZNode/SupportedPTZSpaces")?;
    let space = |kind: &'static str, uri: &str| spaces.all(kind).find(|s| s.text_at("URI") == Some(uri));
    let range = |e: &Element, axis: &str| {
        let end = |name| e.child(axis)?.number_at::<f64>(name).filter(|v| v.is_finite());
        Some((end("Min")?, end("Max")?)).filter(|(least, most)| least < most)
    };
    let turn = space("RelativePanTiltTranslationSpace", FIELD_OF_VIEW)?;
    let zoom = space("RelativeZoomTranslationSpace", ZOOM_TRANSLATION).and_then(|z| range(z, "XRange"));
    Some(PictureMoves { pan_tilt: [range(turn, "XRange")?, range(turn, "YRange")?], zoom })
}

/// Moves across the picture, and the zoom with it where it is to move.
#[must_use]
pub fn move_in_picture(profile: &str, v: Vector) -> Call {
    let Vector { pan, tilt, zoom } = v;
    let zoom = if zoom == 0.0 { String::new() } else { format!("<tt:Zoom x=\"{zoom}\" space=\"{ZOOM_TRANSLATION}\"/>") };
    let inside = format!("<tptz:Translation><tt:PanTilt x=\"{pan}\" y=\"{tilt}\" space=\"{FIELD_OF_VIEW}\"/>{zoom}</tptz:Translation>");
    with_profile("RelativeMove", profile, &inside)
}

/// Stops all movement.
#[must_use]
pub fn stop(profile: &str) -> Call {
    with_profile("Stop", profile, "<tptz:PanTilt>true</tptz:PanTilt><tptz:Zoom>true</tptz:Zoom>")
}

/// Asks where it looks.
#[must_use]
pub fn get_status(profile: &str) -> Call {
    with_profile("GetStatus", profile, "")
}

/// Reads where it looks.
#[must_use]
pub fn read_status(answer: &Element) -> Status {
    let at = |path| answer.text_at(path);
    let moving = at("PTZStatus/MoveStatus/PanTilt").or(at("PTZStatus/MoveStatus/Zoom"));
    let both = [at("PTZStatus/MoveStatus/PanTilt"), at("PTZStatus/MoveStatus/Zoom")];
    Status {
        position: answer.at("PTZStatus/Position").and_then(read_vector),
        moving: moving.map(|_| both.into_iter().flatten().any(|w| w == "MOVING")),
    }
}

/// Reads `PanTilt` and `Zoom`; not what is no number.
#[must_use]
pub fn read_vector(e: &Element) -> Option<Vector> {
    let n = |name: &str, axis: &str| e.child(name)?.attribute(axis)?.parse::<f64>().ok().filter(|v| v.is_finite());
    let (pan, tilt, zoom) = (n("PanTilt", "x"), n("PanTilt", "y"), n("Zoom", "x"));
    (pan.is_some() || zoom.is_some()).then(|| Vector { pan: pan.unwrap_or(0.0), tilt: tilt.unwrap_or(0.0), zoom: zoom.unwrap_or(0.0) })
}
