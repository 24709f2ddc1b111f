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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        content::ContentFault,
        diagnosis::sample::{after, reading, tick},
        facts::Direction,
        model::Mismatch,
    };
    use std::time::Duration;

    #[test]
    fn what_the_media_shows_is_passed_on() {
        let mut r = reading(Direction::In, tick());
        let of = |r: &crate::facts::Reading| {
            let mut c = after([r.clone()]);
            [differs(&mut c), shows(&mut c), same(&mut c)].map(|c| c.map(|c| c.name()))
        };
        assert_eq!(of(&r), [None; 3]);
        let media = r.media.as_mut().expect("of a line");
        media.differs.push(Mismatch::NoPicture);
        media.content.push((ContentFault::Frozen, Duration::from_secs(4)));
        r.around.same_picture = Some("jury".into());
        assert_eq!(of(&r), [Some("differs"), Some("frozen"), Some("same-picture")]);
    }
}
