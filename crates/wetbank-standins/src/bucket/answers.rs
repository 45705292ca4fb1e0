//! What the store says, in XML.

use axum::{
    body::Body,
    http::{StatusCode, header},
    response::Response,
};
use jiff::Timestamp;
use percent_encoding::{AsciiSet, utf8_percent_encode};

use super::store::Page;
use crate::guests::RESERVED;

/// Keys are told encoded; these stay as they are.
const ENCODED: &AsciiSet = &RESERVED.remove(b'/');

/// An answer that says no.
#[derive(Debug)]
pub(super) struct Refusal {
    status: StatusCode,
    code: &'static str,
}

impl Refusal {
    pub fn new(status: StatusCode, code: &'static str) -> Self {
        Self { status, code }
    }
}

impl From<Refusal> for Response {
    fn from(Refusal { status, code }: Refusal) -> Self {
        let text = format!("<?xml version=\"1.0\"?><Error><Code>{code}</Code><Message>{code}</Message></Error>");
        let response = Response::builder().status(status).header(header::CONTENT_TYPE, "application/xml");
        response.body(text.into()).expect("plain headers")
    }
}

pub(super) fn empty(status: StatusCode) -> Response {
    Response::builder().status(status).body(Body::empty()).expect("plain headers")
}

pub(super) fn tagged(tag: &str) -> Response {
    Response::builder().header(header::ETAG, format!("\"{tag}\"")).body(Body::empty()).expect("plain headers")
}

pub(super) fn xml(root: &str, inner: &str) -> Response {
    let text =
        format!("<?xml version=\"1.0\"?><{root} xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\">{inner}</{root}>");
    Response::builder().header(header::CONTENT_TYPE, "application/xml").body(text.into()).expect("plain headers")
}

pub(super) fn begun(uploads: &[(String, String, Timestamp)]) -> Response {
    let told = uploads.iter().map(|(id, key, begun)| {
        let key = utf8_percent_encode(key, ENCODED);
        format!("<Upload><Key>{key}</Key><UploadId>{id}</UploadId><Initiated>{begun}</Initiated></Upload>")
    });
    xml("ListMultipartUploadsResult", &told.collect::<String>())
}

pub(super) fn listed(page: &Page) -> Response {
    let encode = |text: &str| utf8_percent_encode(text, ENCODED).to_string();
    let mut inner = format!("<EncodingType>url</EncodingType><IsTruncated>{}</IsTruncated>", page.next.is_some());
    for (key, object) in &page.objects {
        inner += &format!(
            "<Contents><Key>{}</Key><LastModified>{}</LastModified><ETag>&quot;{}&quot;</ETag><Size>{}</Size></Contents>",
            encode(key),
            object.modified.strftime("%Y-%m-%dT%H:%M:%S.000Z"),
            object.tag,
            object.size()
        );
    }
    for folder in &page.folders {
        inner += &format!("<CommonPrefixes><Prefix>{}</Prefix></CommonPrefixes>", encode(folder));
    }
    if let Some(next) = &page.next {
        let next = quick_xml::escape::escape(next.as_str());
        inner += &format!("<NextContinuationToken>{next}</NextContinuationToken>");
    }
    xml("ListBucketResult", &inner)
}
