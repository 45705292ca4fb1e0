//! What the API's description says of every call alike.

use utoipa::openapi::{
    Content, OpenApi, Ref, RefOr, Response,
    path::{Operation, PathItem},
    security::{HttpAuthScheme, HttpBuilder, SecurityRequirement, SecurityScheme},
};

/// The media type of problem details (RFC 9457, section 6.1).
const PROBLEM: &str = "application/problem+json";
const TOKEN: &str = "token";

/// Adds how one signs in, and that whatever is refused or fails is told as a problem.
pub fn complete(api: &mut OpenApi) {
    let token = SecurityScheme::Http(HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build());
    api.components.get_or_insert_default().security_schemes.insert(TOKEN.to_owned(), token.into());
    api.security = Some(vec![SecurityRequirement::new(TOKEN, [""; 0])]);
    for operation in api.paths.paths.values_mut().flat_map(operations) {
        let responses = &mut operation.responses.responses;
        for (status, response) in responses.iter_mut() {
            let RefOr::T(response) = response else { continue };
            if status.starts_with(['4', '5'])
                && let Some(problem) = response.content.shift_remove("application/json")
            {
                response.content.insert(PROBLEM.to_owned(), problem);
            }
        }
        responses.entry("default".to_owned()).or_insert_with(|| refused().into());
    }
}

fn refused() -> Response {
    let mut response = Response::new("It was refused, or failed: the problem says why and what to do.");
    let problem = Content::new(Some(Ref::from_schema_name("Problem")));
    response.content.insert(PROBLEM.to_owned(), problem.into());
    response
}

fn operations(path: &mut PathItem) -> impl Iterator<Item = &mut Operation> {
    [&mut path.get, &mut path.put, &mut path.post, &mut path.delete, &mut path.patch].into_iter().flatten()
}
