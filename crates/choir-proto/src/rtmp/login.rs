//! User and password, as servers ask for them in the words of a refusal: the published form in
//! which the first call says who it is, and the second answers a riddle.

use base64::{Engine, engine::general_purpose::STANDARD};
use md5::{Digest, Md5};

fn response(user: &str, salt: &str, password: &str, challenge: &str, own: &str) -> String {
    let hash = |parts: &[&str]| STANDARD.encode(Md5::digest(parts.concat()));
    hash(&[&hash(&[user, salt, password]), challenge, own])
}

/// A server's question for user and password, in the published form: the first says which fields
/// there are, the second brings them.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Challenge {
    salt: Option<String>,
    challenge: Option<String>,
    opaque: Option<String>,
}

impl Challenge {
    /// Reads it from the words of a refusal.
    pub(super) fn parse(says: &str) -> Option<Self> {
        let (_, rest) = says.split_once("authmod=adobe")?;
        let field = |name: &str| {
            let value = rest.split(['?', '&', ' ', ':']).find_map(|f| f.strip_prefix(name)?.strip_prefix('='))?;
            Some(value.trim_end_matches(']').to_owned()).filter(|v| v.len() <= 256)
        };
        // Wrong ones are not tried again.
        let known = !rest.contains("reason=authfailed") && !rest.contains("reason=nosuchuser");
        known.then(|| Self { salt: field("salt"), challenge: field("challenge"), opaque: field("opaque") })
    }

    /// What to append to the address for this user: who it is, and where the question is there, the
    /// answer. `own` is a challenge of our own, eight hexadecimal digits.
    #[must_use]
    pub fn answer(&self, user: &str, password: &str, own: &str) -> String {
        let named = format!("?authmod=adobe&user={user}");
        let (Some(salt), Some(challenge)) = (&self.salt, self.opaque.as_ref().or(self.challenge.as_ref())) else { return named };
        let response = response(user, salt, password, challenge, own);
        let opaque = self.opaque.as_ref().map_or_else(String::new, |o| format!("&opaque={o}"));
        format!("{named}&challenge={own}&response={response}{opaque}")
    }
}

/// What a server asks.
#[derive(Debug, Clone)]
pub struct Riddle {
    /// Who may.
    pub user: String,
    /// The user's password.
    pub password: String,
    /// Texts of the server's own: eight characters or so, new for each caller that answers.
    pub salt: String,
    /// The riddle.
    pub challenge: String,
}

impl Riddle {
    /// Judges what stands behind the application of a call; gives the words of the refusal.
    pub(super) fn judge(&self, query: &str) -> Result<(), String> {
        let field = |name: &str| query.split(['?', '&']).find_map(|f| f.strip_prefix(name)?.strip_prefix('='));
        let refused = |why: &str| format!("[ AccessManager.Reject ] : [ authmod=adobe ] : ?reason={why}&opaque={}", self.challenge);
        let Some(user) = field("user") else {
            return Err("[ AccessManager.Reject ] : [ code=403 need auth; authmod=adobe ] : ".into());
        };
        if user != self.user {
            return Err(refused("nosuchuser"));
        }
        let (Some(own), Some(answer)) = (field("challenge"), field("response")) else {
            let riddle = format!("&user={user}&salt={}&challenge={c}&opaque={c}", self.salt, c = self.challenge);
            return Err(format!("[ AccessManager.Reject ] : [ authmod=adobe ] : ?reason=needauth{riddle}"));
        };
        let right = response(user, &self.salt, &self.password, &self.challenge, own);
        if answer == right { Ok(()) } else { Err(refused("authfailed")) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_has_the_password_answers_and_nobody_else() {
        let riddle = Riddle { user: "desk".into(), password: "four".into(), salt: "s4lt".into(), challenge: "cha11".into() };
        let first = Challenge::parse(&riddle.judge("").expect_err("nobody yet")).expect("a question");
        let named = first.answer("desk", "four", "0a0b0c0d");
        assert_eq!(named, "?authmod=adobe&user=desk");
        let second = Challenge::parse(&riddle.judge(&named).expect_err("not proven")).expect("the riddle");
        assert_eq!(riddle.judge(&second.answer("desk", "four", "0a0b0c0d")), Ok(()));
        let wrong = riddle.judge(&second.answer("desk", "five", "0a0b0c0d")).expect_err("the wrong password");
        assert_eq!((wrong.contains("authfailed"), Challenge::parse(&wrong)), (true, None), "and that is not tried again");
        assert!(riddle.judge("?authmod=adobe&user=cox").expect_err("who").contains("nosuchuser"));
        assert_eq!(Challenge::parse("refused for another reason"), None);
    }
}
