//! Values in a query: `:name` stands for one.

use crate::ErrandError;

/// A query whose values have their places, and the values in that order.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Filled {
    pub query: String,
    pub values: Vec<String>,
}

/// Puts what `place` makes of a value's number and text in the place of its name. Texts, quoted names
/// and comments are left as they are, and so are casts (`::`).
pub(super) fn fill(
    query: &str,
    values: &[(String, String)],
    place: impl Fn(usize, &str) -> String,
) -> Result<Filled, ErrandError> {
    let mut filled = Filled { query: String::with_capacity(query.len()), values: Vec::new() };
    let mut order: Vec<&str> = Vec::new();
    let mut rest = query;
    while let Some(letter) = rest.chars().next() {
        let skipped = match letter {
            '\'' | '"' => rest[1..].find(letter).map_or(rest.len(), |end| end + 2),
            '-' if rest.starts_with("--") => rest.find('\n').unwrap_or(rest.len()),
            '/' if rest.starts_with("/*") => rest.find("*/").map_or(rest.len(), |end| end + 2),
            ':' if rest.starts_with("::") => 2,
            ':' => {
                let name: String =
                    rest[1..].chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_' || *c == '-').collect();
                let Some((known, text)) = values.iter().find(|(known, _)| *known == name) else {
                    if name.is_empty() {
                        filled.query.push(':');
                        rest = &rest[1..];
                        continue;
                    }
                    return Err(ErrandError::Wrong(format!("the query asks for :{name}, and values has no such name")));
                };
                let number = order.iter().position(|one| one == known).unwrap_or_else(|| {
                    order.push(known);
                    filled.values.push(text.clone());
                    order.len() - 1
                });
                filled.query.push_str(&place(number + 1, text));
                rest = &rest[1 + name.len()..];
                continue;
            }
            letter => letter.len_utf8(),
        };
        filled.query.push_str(&rest[..skipped]);
        rest = &rest[skipped..];
    }
    Ok(filled)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_filled_in_where_it_stands_for_a_value_and_nowhere_else() {
        let values = [("day".to_owned(), "2026-03-14".to_owned()), ("hut".to_owned(), "7' OR 1=1".to_owned())];
        let query =
            "SELECT ':day', \"a:hut\", x::text -- :day\n/* :hut */ FROM t WHERE d = :day AND h = :hut OR e=:day";
        let filled = fill(query, &values, |number, _| format!("?{number}")).unwrap();
        assert_eq!(
            filled.query,
            "SELECT ':day', \"a:hut\", x::text -- :day\n/* :hut */ FROM t WHERE d = ?1 AND h = ?2 OR e=?1"
        );
        assert_eq!(filled.values, ["2026-03-14", "7' OR 1=1"]);
        let error = fill("SELECT :dya", &values, |_, _| String::new()).unwrap_err();
        assert!(error.to_string().contains(":dya"), "{error}");
    }

    #[test]
    fn what_is_never_closed_is_left_to_the_database() {
        for query in ["SELECT 'x", "SELECT \"x", "SELECT 1 /* x", "SELECT 1 -- x", "a : b", "é:"] {
            assert_eq!(fill(query, &[], |_, _| "?".to_owned()).unwrap().query, query);
        }
    }
}
