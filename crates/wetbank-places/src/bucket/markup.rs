//! What a store says in XML, as far as no library reads it for us.

use std::collections::HashMap;

use quick_xml::{Reader, events::Event};

/// The texts directly within each element of a name, by the names of their own elements. What is broken off counts
/// as far as it goes.
pub(super) fn each(text: &str, element: &str) -> Vec<HashMap<String, String>> {
    let mut reader = Reader::from_str(text);
    let (mut found, mut open) = (Vec::new(), Vec::<String>::new());
    // How deep the element that is being read stands.
    let mut within: Option<usize> = None;
    loop {
        match reader.read_event() {
            Ok(Event::Start(start)) => {
                open.push(start.local_name().as_ref().to_owned());
                if within.is_none() && open.last().is_some_and(|name| name == element) {
                    within = Some(open.len());
                    found.push(HashMap::new());
                }
            }
            Ok(Event::End(_)) => {
                within = within.filter(|depth| open.len() > *depth);
                open.pop();
            }
            Ok(Event::Text(part)) => put(&mut found, &open, within, part.as_ref()),
            Ok(Event::CData(part)) => put(&mut found, &open, within, part.as_ref()),
            Ok(Event::GeneralRef(reference)) => {
                let letter = match reference.resolve_char_ref() {
                    Ok(Some(letter)) => letter.to_string(),
                    _ => {
                        quick_xml::escape::resolve_predefined_entity(reference.as_ref()).unwrap_or_default().to_owned()
                    }
                };
                put(&mut found, &open, within, &letter);
            }
            Ok(Event::Eof) | Err(_) => return found,
            Ok(_) => {}
        }
    }
}

fn put(found: &mut [HashMap<String, String>], open: &[String], within: Option<usize>, text: &str) {
    let is_direct = within.is_some_and(|depth| open.len() == depth + 1);
    if let (true, Some(last), Some(name)) = (is_direct, found.last_mut(), open.last()) {
        last.entry(name.clone()).or_default().push_str(text);
    }
}

/// The texts within the first element of a name.
pub(super) fn first(text: &str, element: &str) -> HashMap<String, String> {
    each(text, element).into_iter().next().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_read_with_their_entities_and_whatever_prefix_their_names_have() {
        let said =
            first("<?xml version=\"1.0\"?><s:Error xmlns:s=\"x\"><s:Code>No&#83;uchKey</s:Code></s:Error>", "Error");
        assert_eq!(said["Code"], "NoSuchKey");
        let part = "<CopyPartResult><ETag>&quot;9a0364b9&quot;</ETag></CopyPartResult>";
        assert_eq!(first(part, "CopyPartResult")["ETag"], "\"9a0364b9\"");
        assert!(first("", "Error").is_empty() && first("<Error><Code>", "Error").is_empty());
    }

    #[test]
    fn each_of_several_has_its_own_texts_and_not_those_within_them() {
        let list = "<List><Upload><Key>a</Key><Owner><ID>7</ID></Owner><UploadId>1</UploadId></Upload>\
                    <Upload><Key>b</Key><UploadId>2</UploadId></Upload></List>";
        let uploads = each(list, "Upload");
        assert_eq!(uploads.len(), 2);
        assert_eq!((uploads[0]["Key"].as_str(), uploads[1]["UploadId"].as_str()), ("a", "2"));
        assert!(!uploads[0].contains_key("ID"));
    }
}
