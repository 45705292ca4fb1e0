//! The API holds what its own description says: statuses, media types, shapes, for calls that are right and for calls
//! that are wrong in every way the description lets one think of.

use std::{fs, path::Path, process::Command};

use crate::support::{Office, SMALL_BOOK};

const ASK: &str = r#"
[rule.ask]
starts = { arrival = { place = "office", folder = "asked" } }
[[rule.ask.branch]]
steps = [ { hold = { why = "Look at it." } } ]
"#;

/// What calls are about, so that they come further than "there is no such thing".
const KNOWN: &str = r#"
[[operations]]
include-path-regex = "/places/.name"
parameters = { "path.name" = "office" }

[[operations]]
include-path-regex = "/rules/.name"
parameters = { "path.name" = "keep" }

[[operations]]
include-path-regex = "/runs/.id"
parameters = { "path.id" = 1 }

[[operations]]
include-path-regex = "/holds/.item"
parameters = { "path.item" = 2 }
"#;

const CHECKS: &str = "not_a_server_error,status_code_conformance,content_type_conformance,\
                      response_headers_conformance,response_schema_conformance,unsupported_method";

#[test]
fn every_answer_is_one_that_the_description_tells() {
    let office = Office::open();
    fs::create_dir_all(office.path("office")).unwrap();
    office.book(&format!("{SMALL_BOOK}{ASK}"));
    office.put("office/in/assay.csv", b"grades");
    office.wait_idle();
    office.put("office/asked/assay.csv", b"grades");
    office.hold();
    fs::write(office.path("known.toml"), KNOWN).unwrap();
    let checker = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../.venv/bin/schemathesis");
    // Calls that reach other machines, and the one that never ends, are tested elsewhere.
    let output = Command::new(checker)
        .current_dir(office.path(""))
        .args(["--config-file", "known.toml", "run", &format!("{}/api/v1/openapi.json", office.url())])
        .args(["--header", &format!("authorization: Bearer {}", office.token())])
        .args(["--phases", "coverage,fuzzing", "--max-examples", "15", "--seed", "7", "--no-shrink", "--workers", "2"])
        .args(["--continue-on-failure", "--warnings", "off", "--request-timeout", "30", "--checks", CHECKS])
        .args(["--exclude-path", "/api/v1/places/try", "--exclude-path", "/api/v1/events"])
        .args(["--exclude-operation-id", "add", "--exclude-operation-id", "put_provider"])
        .output()
        .expect("it is installed by cargo xtask setup");
    let said = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success() && said.contains("generated"), "{said}{}", String::from_utf8_lossy(&output.stderr));
}
