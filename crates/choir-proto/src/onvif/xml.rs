//! XML from strangers, read into a small tree: bounded in size, depth and number, nothing external
//! resolved.

use quick_xml::{
    NsReader,
    escape::resolve_predefined_entity,
    events::{BytesStart, Event},
    name::ResolveResult,
};

/// Longest document. The longest honest answer (profiles of a camera with many streams) has some
/// 100 kB.
pub const SIZE_MAX: usize = 1 << 20;
/// Deepest nesting.
pub const DEPTH_MAX: usize = 40;
/// Most elements.
pub const ELEMENTS_MAX: usize = 20_000;

/// Most attributes of one element, declared namespaces among them. Each is compared with the
/// others, and each name below with each namespace.
pub const ATTRIBUTES_MAX: usize = 64;

/// Why a document was not read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum XmlError {
    /// Longer than [`SIZE_MAX`].
    #[error("the answer has {0} bytes, more than 1 MiB")]
    TooLong(usize),
    /// Nested deeper than [`DEPTH_MAX`], more elements than [`ELEMENTS_MAX`], or more attributes
    /// than [`ATTRIBUTES_MAX`].
    #[error("the answer is nested too deep or has too many parts")]
    TooMuch,
    /// It wants something defined or fetched.
    #[error("the answer has a document type, which is not allowed")]
    DocumentType,
    /// Not well-formed.
    #[error("the answer is not XML: {0}")]
    Malformed(String),
}

/// One element. Names are without their prefix.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Element {
    /// Local name.
    pub name: String,
    /// Namespace, empty when there is none.
    pub namespace: String,
    /// Attributes by local name.
    pub attributes: Vec<(String, String)>,
    /// All text directly inside, trimmed.
    pub text: String,
    /// Children.
    pub children: Vec<Element>,
}

impl Element {
    /// The first child of this name.
    #[must_use]
    pub fn child(&self, name: &str) -> Option<&Self> {
        self.children.iter().find(|c| c.name == name)
    }
    /// All children of this name.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.children.iter().filter(move |c| c.name == name)
    }
    /// The element at a path of names, `A/B/C`.
    #[must_use]
    pub fn at(&self, path: &str) -> Option<&Self> {
        path.split('/').try_fold(self, |e, name| e.child(name))
    }
    /// The text at a path; `None` when there is none or it is empty.
    #[must_use]
    pub fn text_at(&self, path: &str) -> Option<&str> {
        self.at(path).map(|e| e.text.as_str()).filter(|t| !t.is_empty())
    }
    /// The number at a path.
    #[must_use]
    pub fn number_at<T: std::str::FromStr>(&self, path: &str) -> Option<T> {
        self.text_at(path)?.parse().ok()
    }
    /// An attribute.
    #[must_use]
    pub fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str())
    }
    /// The first element of this name, this one or below, in order of the document.
    #[must_use]
    pub fn find(&self, name: &str) -> Option<&Self> {
        if self.name == name { Some(self) } else { self.children.iter().find_map(|c| c.find(name)) }
    }
}

fn open(e: &BytesStart<'_>, namespace: &ResolveResult<'_>) -> Result<Element, XmlError> {
    let lossy = |b: &[u8]| String::from_utf8_lossy(b).into_owned();
    let mut attributes = Vec::new();
    for a in e.attributes() {
        if attributes.len() == ATTRIBUTES_MAX {
            return Err(XmlError::TooMuch);
        }
        let a = a.map_err(|e| XmlError::Malformed(e.to_string()))?;
        let value = a.unescape_value().map_err(|e| XmlError::Malformed(e.to_string()))?;
        attributes.push((lossy(a.key.local_name().as_ref()), value.into_owned()));
    }
    let namespace = match namespace {
        ResolveResult::Bound(n) => lossy(n.as_ref()),
        _ => String::new(),
    };
    Ok(Element { name: lossy(e.local_name().as_ref()), namespace, attributes, ..Element::default() })
}

/// Reads a document.
///
/// # Errors
/// See [`XmlError`].
pub fn read(bytes: &[u8]) -> Result<Element, XmlError> {
    if bytes.len() > SIZE_MAX {
        return Err(XmlError::TooLong(bytes.len()));
    }
    let mut reader = NsReader::from_reader(bytes);
    reader.config_mut().expand_empty_elements = true;
    let malformed = |e: &dyn std::fmt::Display| XmlError::Malformed(e.to_string());
    // The document itself is the first one.
    let mut stack = vec![Element::default()];
    let (mut count, mut buffer) = (0, Vec::new());
    loop {
        buffer.clear();
        let (namespace, event) = reader.read_resolved_event_into(&mut buffer).map_err(|e| malformed(&e))?;
        match event {
            Event::Start(e) => {
                count += 1;
                if stack.len() > DEPTH_MAX || count > ELEMENTS_MAX {
                    return Err(XmlError::TooMuch);
                }
                stack.push(open(&e, &namespace)?);
            }
            Event::End(_) => {
                let Some(mut done) = stack.pop() else { return Err(malformed(&"an end without a start")) };
                done.text = done.text.trim().to_owned();
                let Some(parent) = stack.last_mut() else { return Err(malformed(&"an end without a start")) };
                parent.children.push(done);
            }
            Event::Text(t) => push(&mut stack, &t.decode().map_err(|e| malformed(&e))?),
            Event::CData(t) => push(&mut stack, &t.decode().map_err(|e| malformed(&e))?),
            Event::GeneralRef(r) => match r.resolve_char_ref() {
                Ok(Some(c)) => push(&mut stack, c.encode_utf8(&mut [0; 4])),
                Ok(None) => {
                    let name = r.decode().map_err(|e| malformed(&e))?;
                    push(&mut stack, resolve_predefined_entity(&name).ok_or(XmlError::DocumentType)?);
                }
                Err(e) => return Err(malformed(&e)),
            },
            Event::DocType(_) => return Err(XmlError::DocumentType),
            Event::Eof => break,
            Event::Empty(_) | Event::Comment(_) | Event::Decl(_) | Event::PI(_) => {}
        }
    }
    match (stack.len(), stack.pop().and_then(|mut d| d.children.pop())) {
        (1, Some(root)) => Ok(root),
        _ => Err(malformed(&"it ends too early")),
    }
}

fn push(stack: &mut [Element], text: &str) {
    if let Some(e) = stack.last_mut() {
        e.text.push_str(text);
    }
}

/// A text as XML writes it.
#[must_use]
pub fn escape(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tree_is_read_with_its_namespaces_and_texts() {
        let text = br#"<?xml version="1.0"?><a:One xmlns:a="urn:a" token="x&amp;y"><b> 1 &lt;&#50; </b><!-- c --><a:Two/><b><![CDATA[<3]]></b></a:One>"#;
        let one = read(text).expect("reads");
        assert_eq!((one.name.as_str(), one.namespace.as_str(), one.attribute("token")), ("One", "urn:a", Some("x&y")));
        assert_eq!(one.text_at("b"), Some("1 <2"));
        assert_eq!(one.all("b").map(|b| b.text.as_str()).collect::<Vec<_>>(), ["1 <2", "<3"]);
        assert!(one.at("Two").is_some() && one.text_at("Two").is_none() && one.find("Two").is_some());
    }

    #[test]
    fn nothing_is_defined_fetched_or_too_big() {
        let doctype = br#"<!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/hostname">]><a>&x;</a>"#;
        assert_eq!(read(doctype), Err(XmlError::DocumentType));
        assert_eq!(read(b"<a>&x;</a>"), Err(XmlError::DocumentType));
        assert_eq!(read("<a>".repeat(DEPTH_MAX + 1).as_bytes()), Err(XmlError::TooMuch));
        assert_eq!(read(format!("<a>{}</a>", "<b/>".repeat(ELEMENTS_MAX)).as_bytes()), Err(XmlError::TooMuch));
        let attributes = |n: usize| (0..n).map(|i| format!(" a{i}='1'")).collect::<String>();
        assert!(read(format!("<a{}/>", attributes(ATTRIBUTES_MAX)).as_bytes()).is_ok());
        assert_eq!(read(format!("<a{}/>", attributes(ATTRIBUTES_MAX + 1)).as_bytes()), Err(XmlError::TooMuch));
        assert_eq!(read(format!("<a{}/>", attributes(60_000)).as_bytes()), Err(XmlError::TooMuch));
        assert!(matches!(read(b"<a b='1' b='2'/>"), Err(XmlError::Malformed(_))));
        assert_eq!(read(&vec![b' '; SIZE_MAX + 1]), Err(XmlError::TooLong(SIZE_MAX + 1)));
        for bad in ["", "<a>", "<a></b>", "</a>", "text", "<a b></a>", "<a><b></a></b>"] {
            assert!(read(bad.as_bytes()).is_err(), "{bad}");
        }
    }
}
