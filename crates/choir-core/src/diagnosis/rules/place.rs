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
