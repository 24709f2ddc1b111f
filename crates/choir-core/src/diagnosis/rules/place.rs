//! Another caller has the place; the passphrase fitted once and does not any more.

use crate::facts::{Cause, Contact, Fault, Reading};

pub(super) fn place(r: &Reading) -> Option<Cause> {
    match r.contact.fault() {
        Some(Fault::Taken) => Some(Cause::PlaceTaken { from: None }),
        _ if r.contact == Contact::Up => r.around.contested.map(|from| Cause::PlaceTaken { from: Some(from) }),
        _ => None,
    }
}

pub(super) fn passphrase(r: &Reading) -> Option<Cause> {
    let fault = matches!(r.contact.fault()?, Fault::Passphrase | Fault::OneSided);
    (fault && r.around.sessions > 0).then_some(Cause::PassphraseChanged)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{reading, tick};
    use crate::facts::{Direction, Loss};

    #[test]
    fn a_taken_place_and_a_changed_passphrase_are_told_by_what_the_other_end_says() {
        let lost = |fault| Contact::Lost(Loss::Caller { peer: None, fault: Some(fault), why: String::new() });
        let with = |contact| Reading { contact, ..reading(Direction::In, tick()) };
        assert_eq!(place(&with(lost(Fault::Taken))), Some(Cause::PlaceTaken { from: None }));
        let mut r = reading(Direction::In, tick());
        assert_eq!((place(&r), passphrase(&r)), (None, None));
        let from = ([127, 20, 0, 9], 7101).into();
        r.around.contested = Some(from);
        assert_eq!(place(&r), Some(Cause::PlaceTaken { from: Some(from) }));
        let mut r = with(lost(Fault::Passphrase));
        assert_eq!(passphrase(&r), Some(Cause::PassphraseChanged));
        r.around.sessions = 0;
        assert_eq!(passphrase(&r), None, "it has never fitted");
    }
}
