//! `[pattern.NAME]`: an address as a maker's page writes it, with blanks, and what each blank may
//! be.

use super::{places::start, reader::Reader};
use crate::{
    link::{Field, Value},
    model::Pattern,
    spelling::did_you_mean,
};
use toml_edit::TableLike;

/// What a line names its pattern by.
pub(super) const PATTERN: &str = "pattern";
/// Settings that a pattern may hold for all its lines.
const SHARED: &[&str] = &["user", "password", "transport", "reorder", "damaged", "interface"];

impl Reader<'_> {
    pub(super) fn read_patterns(&mut self, root: &dyn TableLike) {
        let Some(item) = root.get("pattern") else { return };
        let Some(table) = item.as_table_like() else {
            return self.error(start(item.span()), "pattern", "pattern must be tables.", "Write [pattern.NAME], with url = \"...\".");
        };
        for (name, item) in table.iter() {
            let subject = format!("pattern \"{name}\"");
            let Some(inside) = item.as_table_like() else {
                self.error(start(item.span()), &subject, "it must be a table.", format!("Write [pattern.{name}]."));
                continue;
            };
            let Some((url, url_at)) = self.string(inside, &subject, "url") else {
                if inside.get("url").is_none() {
                    self.error(start(item.span()), &subject, "it has no url.", "Add url = \"rtsp://{address}/...\".");
                }
                continue;
            };
            let mut pattern = Pattern { name: name.to_owned(), url, allowed: Vec::new(), shared: Vec::new() };
            let blanks: Vec<String> = match pattern.blanks() {
                Some(blanks) => blanks.into_iter().map(str::to_owned).collect(),
                None => {
                    self.error(url_at, &subject, "a blank of its url does not end.", "Write each as {name}.");
                    continue;
                }
            };
            let mut known: Vec<&str> = vec!["url"];
            known.extend(SHARED);
            known.extend(blanks.iter().map(String::as_str));
            self.known(inside, &subject, &known);
            for blank in &blanks {
                let allowed: Vec<String> = self.texts(inside, &subject, blank).into_iter().map(|t| t.0).collect();
                if !allowed.is_empty() {
                    pattern.allowed.push((blank.clone(), allowed));
                }
            }
            pattern.shared = self.link_settings(inside, &subject, SHARED);
            self.patterns.insert(name.to_owned(), pattern);
        }
    }

    /// Fills the blanks of the pattern that these fields name; gives them as fields of a link.
    pub(super) fn by_pattern(&mut self, mut fields: Vec<Field>, at: usize, subject: &str) -> Option<Vec<Field>> {
        let Some(place) = fields.iter().position(|f| f.key == PATTERN) else { return Some(fields) };
        let named = fields.swap_remove(place);
        let Value::Text(name) = &named.value else {
            self.error(named.value_at, subject, "pattern must be a text.", "Write pattern = \"NAME\".");
            return None;
        };
        let Some(pattern) = self.patterns.get(name).cloned() else {
            let names: Vec<String> = self.patterns.keys().cloned().collect();
            let names: Vec<&str> = names.iter().map(String::as_str).collect();
            let remedy =
                if names.is_empty() { format!("The sheet has no [pattern.{name}] yet: add it.") } else { did_you_mean(name, &names) };
            self.error(named.value_at, subject, format!("there is no pattern \"{name}\"."), remedy);
            return None;
        };
        let mut values = Vec::new();
        for blank in pattern.blanks().unwrap_or_default() {
            let given = fields.iter().position(|f| f.key == blank).map(|n| fields.swap_remove(n));
            let value = match given.as_ref().map(|f| (&f.value, f.value_at)) {
                Some((Value::Text(text), at)) => Some((text.clone(), at)),
                Some((Value::Number(n), at)) => Some((n.to_string(), at)),
                Some((_, at)) => {
                    self.error(at, subject, format!("{blank} must be a text."), "Write it in quotes.");
                    return None;
                }
                None => None,
            };
            match pattern.fill(blank, value.as_ref().map(|v| v.0.as_str())) {
                Ok(text) => values.push((blank.to_owned(), text)),
                Err((what, remedy)) => {
                    self.error(value.map_or(at, |v| v.1), subject, what, remedy);
                    return None;
                }
            }
        }
        let url = pattern.with(&values);
        fields.push(Field { key: "url".into(), key_at: named.key_at, value: Value::Text(url), value_at: named.value_at });
        let own: Vec<String> = fields.iter().map(|f| f.key.clone()).collect();
        fields.extend(pattern.shared.into_iter().filter(|f| !own.contains(&f.key)));
        Some(fields)
    }
}

#[cfg(test)]
mod tests {
    use crate::{link::show_url, sheet::read_sheet};

    fn read(from: &str) -> Result<String, Vec<String>> {
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n\
             [pattern.tarn]\nurl = \"rtsp://{{address}}/picture?size={{size}}\"\nsize = [\"full\", \"light\"]\nuser = \"desk\"\npassword = {{ env = \"CAMERA\" }}\n\
             [[line]]\nname = \"dock\"\nfrom = {{ {from} }}\n"
        );
        let (sheet, findings) = read_sheet(&text);
        sheet.map(|s| show_url(&s.lines[0].from)).ok_or_else(|| findings.iter().map(|f| format!("{} {}", f.what, f.remedy)).collect())
    }

    #[test]
    fn blanks_are_filled_with_what_is_allowed() {
        let address = "pattern = \"tarn\", address = \"127.20.1.21:8554\"";
        let url = |from: &str| read(from).map(|url| url.split('#').next().unwrap_or_default().to_owned());
        assert_eq!(url(&format!("{address}, size = \"light\"")).as_deref(), Ok("rtsp://desk@127.20.1.21:8554/picture?size=light"));
        assert!(read(&format!("{address}, size = \"full\", transport = \"tcp\"")).is_ok_and(|url| url.contains("transport=tcp")));
        for (from, says) in [
            (address, "size is missing. Allowed: full, light."),
            (&format!("{address}, size = \"lite\""), "size \"lite\" is not one of the pattern tarn. Allowed: full, light."),
            ("pattern = \"tarn\", size = \"full\"", "address is missing."),
            ("pattern = \"turn\", size = \"full\"", "there is no pattern \"turn\". Did you mean \"tarn\"?"),
            (&format!("{address}, size = \"full\", sise = 1"), "\"sise\" is not a setting"),
        ] {
            let found = read(from).expect_err(from);
            assert!(found.iter().any(|f| f.contains(says)), "{from}: {found:?}");
        }
    }
}
