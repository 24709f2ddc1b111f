//! What the media shows, and how it differs from what the sheet expects.

use crate::{diagnosis::course::Course, facts::Cause};

pub(super) fn differs(c: &mut Course) -> Option<Cause> {
    let r = c.up()?;
    r.media.as_ref()?.differs.first().cloned().map(Cause::Differs)
}

pub(super) fn shows(c: &mut Course) -> Option<Cause> {
    let r = c.up()?;
    r.media.as_ref()?.content.first().map(|(fault, _)| Cause::Content(*fault))
}

pub(super) fn same(c: &mut Course) -> Option<Cause> {
    let r = c.up()?;
    r.around.same_picture.clone().map(|line| Cause::SamePicture { line })
}
