//! What comes out of a table is what such files are, whatever stands in it.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{collections::BTreeSet, time::Duration};

use sqlx::{
    ConnectOptions, Executor,
    sqlite::{SqliteConnectOptions, SqliteSynchronous},
};
use wetbank_core::{Asked, BadRows, Database, DatabaseKind, Name, Numbers, Twice, step::Load};
use wetbank_errands::{Extracting, Loading, Source, extract, load, new_sqlite};

struct Made {
    _folder: tempfile::TempDir,
    source: Source,
}

async fn made(statements: &str) -> Made {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("survey.db");
    new_sqlite(&file, statements).await.unwrap();
    let kind = DatabaseKind::Sqlite { file: file.display().to_string() };
    let database = Database { name: Name::new("survey").unwrap(), title: "Survey".to_owned(), kind };
    Made { _folder: folder, source: Source { database, password: None } }
}

impl Made {
    async fn extract(&self, query: &str, separator: u8) -> (u64, String) {
        self.asked(Asked::Query(query.to_owned()), separator).await
    }

    async fn asked(&self, asked: Asked, separator: u8) -> (u64, String) {
        let extracting = Extracting { asked, values: Vec::new(), separator };
        let mut output = Vec::new();
        let rows = extract(&self.source, extracting, &mut output).await.unwrap();
        (rows, String::from_utf8(output).unwrap())
    }

    async fn load(&self, text: &str, key: &str) -> Result<wetbank_errands::Loaded, wetbank_errands::ErrandError> {
        let loading = Loading { said: usual(), key: key.to_owned() };
        load(&self.source, loading, std::io::Cursor::new(text.to_owned().into_bytes())).await
    }
}

/// A load into the table `t` as it is done if the rule says nothing of it.
fn usual() -> Load {
    Load {
        into: Name::new("survey").unwrap(),
        table: "t".to_owned(),
        columns: Vec::new(),
        separator: b',',
        encoding: "utf-8".to_owned(),
        numbers: Numbers::default(),
        twice: Twice::Refuse,
        missing_stay_empty: false,
        bad_rows: BadRows::Refuse,
        replace: false,
    }
}

#[tokio::test]
async fn every_value_is_written_so_that_it_can_be_read_back() {
    let made = made(
        "CREATE TABLE t (a, \"b c\", rowid TEXT); INSERT INTO t VALUES (1, 2.0, NULL), ('x,y', 'say \"so\"', 'two
lines'), (x'00ff', '', -0.25), ('it''s', ';', 12345678901234)",
    )
    .await;
    let (rows, text) = made.extract("SELECT a, \"b c\", rowid FROM t", b',').await;
    let expected =
        "a,b c,rowid\n1,2.0,\n\"x,y\",\"say \"\"so\"\"\",\"two\nlines\"\n00ff,,-0.25\nit's,;,12345678901234\n";
    assert_eq!((rows, text.as_str()), (4, expected));
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    assert_eq!(reader.records().map(|record| record.unwrap().len()).sum::<usize>(), 12);
    let (_, text) = made.extract("SELECT \"b c\" FROM t", b';').await;
    assert_eq!(text, "b c\n2.0\n\"say \"\"so\"\"\"\n\"\"\n\";\"\n", "a line is never empty");
}

#[tokio::test]
async fn rows_of_very_different_sizes_come_out_in_their_order_and_all_of_them() {
    let made = made(
        "CREATE TABLE t (n, text); WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < 9000) \
         INSERT INTO t SELECT n, CASE WHEN n % 1000 = 0 THEN hex(zeroblob(300000)) ELSE 'x' END FROM c",
    )
    .await;
    let (rows, text) = made.extract("SELECT n, text, n AS n FROM t ORDER BY n DESC", b',').await;
    assert_eq!(rows, 9000);
    let numbers: Vec<u32> = text.lines().skip(1).map(|line| line.split(',').next().unwrap().parse().unwrap()).collect();
    assert!(numbers.len() == 9000 && numbers.windows(2).all(|pair| pair[0] == pair[1] + 1));
    assert_eq!(made.extract("SELECT n FROM t WHERE n < 0", b',').await, (0, "n\n".to_owned()));
}

#[tokio::test]
async fn numbers_without_end_wide_rows_and_bytes_late_in_a_table_come_out() {
    let made = made("CREATE TABLE t (a REAL, b); INSERT INTO t VALUES (9e999, 0.1), (-9e999, 1e300)").await;
    assert_eq!(made.extract("SELECT a, b FROM t", b',').await.1, "a,b\nInf,0.1\n-Inf,1.0e+300\n");
    let wide = (0..250).map(|n| format!("{n} AS c{n}")).collect::<Vec<_>>().join(",");
    let (_, text) = made.extract(&format!("SELECT {wide}"), b',').await;
    let numbers: Vec<String> = (0..250).map(|n| n.to_string()).collect();
    assert_eq!(text.lines().nth(1).unwrap(), numbers.join(","));
    let late = "WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < 6000) \
                SELECT n, CASE n WHEN 5000 THEN x'00ff' ELSE 'ü\\\u{1}' END AS text FROM c";
    let (rows, text) = made.extract(late, b',').await;
    assert_eq!((rows, text.lines().nth(5000)), (6000, Some("5000,00ff")));
    assert_eq!(text.lines().nth(6000), Some("6000,ü\\\u{1}"));
}

#[tokio::test]
async fn whole_tables_come_out_whatever_their_rows_are_numbered() {
    let made = made(
        "CREATE TABLE gaps (n INTEGER PRIMARY KEY, b BLOB); INSERT INTO gaps VALUES (-9223372036854775808, 'first'), \
         (-3, NULL), (0, x'01'), (9000000, 'far'), (9223372036854775807, 'last'); \
         CREATE TABLE keyed (k TEXT PRIMARY KEY, v) WITHOUT ROWID; INSERT INTO keyed VALUES ('b', 2), ('a', 1); \
         CREATE TABLE taken (rowid, oid, _rowid_); CREATE VIEW seen AS SELECT k FROM keyed; \
         CREATE TABLE named (\"a b\", rowid); INSERT INTO named VALUES (1, 'z'), (2, 'y'); CREATE TABLE none (a, b); \
         CREATE TABLE reckoned (a, b AS (a * 2), c AS (a + 0.5) STORED); INSERT INTO reckoned VALUES (2); \
         CREATE TABLE listed (a, b AS (json_array(a, 'x],')), c AS (json_object('k', a)), d); INSERT INTO listed VALUES (1, '\\'), (2, '[]')",
    )
    .await;
    for (table, rows, text) in [
        ("gaps", 5, "n,b\n-9223372036854775808,first\n-3,\n0,01\n9000000,far\n9223372036854775807,last\n"),
        ("main.keyed", 2, "k,v\na,1\nb,2\n"),
        ("seen", 2, "k\na\nb\n"),
        ("NAMED", 2, "a b,rowid\n1,z\n2,y\n"),
        ("none", 0, "a,b\n"),
        ("reckoned", 1, "a,b,c\n2,4,2.5\n"),
        (
            "listed",
            2,
            "a,b,c,d\n1,\"[1,\"\"x],\"\"]\",\"{\"\"k\"\":1}\",\\\n2,\"[2,\"\"x],\"\"]\",\"{\"\"k\"\":2}\",[]\n",
        ),
    ] {
        assert_eq!(made.asked(Asked::Table(table.to_owned()), b',').await, (rows, text.to_owned()), "{table}");
    }
    let asked = Asked::Table("taken".to_owned());
    let extracting = Extracting { asked, values: Vec::new(), separator: b',' };
    let error = extract(&made.source, extracting, Vec::new()).await.unwrap_err().to_string();
    assert!(error.contains("rename one with AS"), "{error}");
}

#[tokio::test]
async fn what_is_no_question_is_refused_and_nothing_is_changed() {
    let made = made("CREATE TABLE t (a INTEGER NOT NULL)").await;
    for query in ["DELETE FROM t", "SELECT nothing FROM t", "nonsense", "SELECT 1; DROP TABLE t", "SELECT :day"] {
        let extracting = Extracting { asked: Asked::Query(query.to_owned()), values: Vec::new(), separator: b',' };
        assert!(extract(&made.source, extracting, Vec::new()).await.is_err(), "{query}");
    }
    assert_eq!(made.extract("SELECT count(*) AS n FROM sqlite_schema", b',').await.1, "n\n1\n");
}

#[tokio::test]
async fn a_load_is_done_once_and_wholly_or_not_at_all() {
    let made = made("CREATE TABLE t (a INTEGER NOT NULL, b REAL)").await;
    assert_eq!(made.load("a,b\n1,2.5\n2,\n", "one").await.unwrap().rows, 2);
    assert!(made.load("a,b\n1,2.5\n2,\n", "one").await.unwrap().before);
    let error = made.load("a,b\n3,1\n,2\n4,x\n", "two").await.unwrap_err().to_string();
    assert_eq!(error, "2 rows do not fit, so none was loaded: line 3: a is empty; line 4: b is \"x\", not a number");
    assert_eq!(made.load("a,b\n5,\n", "two").await.unwrap().rows, 1, "what failed left no mark");
    assert_eq!(made.extract("SELECT a, b FROM t ORDER BY a", b',').await.1, "a,b\n1,2.5\n2,\n5,\n");
    assert!(made.load("a,c\n1,2\n", "three").await.unwrap_err().to_string().contains("no column \"c\"; it has a, b"));
}

#[tokio::test]
async fn a_table_of_any_length_comes_out_row_by_row() {
    for length in [1, 15, 16, 17, 31, 32, 33, 34, 63, 8_031, 8_032, 8_033, 20_000] {
        let made = made(&format!(
            "CREATE TABLE t (n INTEGER); WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < {length}) \
             INSERT INTO t (rowid, n) SELECT n * 3, n FROM c"
        ))
        .await;
        let (rows, text) = made.asked(Asked::Table("t".to_owned()), b',').await;
        let numbers: Vec<u64> = text.lines().skip(1).map(|line| line.parse().unwrap()).collect();
        assert!(rows == length && numbers.into_iter().eq(1..=length), "{length}");
    }
}

#[tokio::test]
async fn a_table_comes_out_as_of_one_moment_while_others_write_to_it() {
    for mode in ["WAL", "DELETE"] {
        let made = made(&format!(
            "PRAGMA journal_mode = {mode}; CREATE TABLE t (v INTEGER); \
             WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < 100) INSERT INTO t SELECT 0 FROM c"
        ))
        .await;
        let DatabaseKind::Sqlite { file } = &made.source.database.kind else { unreachable!() };
        let options = SqliteConnectOptions::new().filename(file).busy_timeout(Duration::from_secs(20));
        let mut connection = options.synchronous(SqliteSynchronous::Off).connect().await.unwrap();
        let writer = tokio::spawn(async move {
            loop {
                connection.execute("UPDATE t SET v = v + 1").await.unwrap();
                tokio::task::yield_now().await;
            }
        });
        let mut seen = BTreeSet::new();
        for _ in 0..300 {
            let (rows, text) = made.asked(Asked::Table("t".to_owned()), b',').await;
            assert_eq!(rows, 100, "{mode}");
            let values: BTreeSet<&str> = text.lines().skip(1).collect();
            assert_eq!(values.len(), 1, "{mode}: {values:?}");
            seen.extend(values.into_iter().map(str::to_owned));
        }
        assert!(seen.len() > 1, "{mode}: nothing was written meanwhile");
        writer.abort();
    }
}

#[tokio::test]
async fn a_header_that_is_there_twice_is_refused_unless_it_is_said_which_counts() {
    let made = made("CREATE TABLE t (station TEXT, level REAL);").await;
    let text = "station,level,level\nB12,3.5,4.5\n";
    let refused = made.load(text, "once").await.unwrap_err();
    assert!(refused.to_string().contains("\"level\" twice"), "{refused}");
    for (twice, level) in [(Twice::First, "3.5"), (Twice::Last, "4.5")] {
        let said = Load { encoding: "iso-8859-1".to_owned(), twice, replace: true, ..usual() };
        let loading = Loading { said, key: format!("{twice:?}") };
        load(&made.source, loading, std::io::Cursor::new(text.as_bytes().to_vec())).await.unwrap();
        assert_eq!(made.extract("SELECT level FROM t", b',').await.1, format!("level\n{level}\n"));
    }
}

#[tokio::test]
async fn a_column_that_the_file_does_not_have_is_refused_unless_it_may_stay_empty_or_fills_itself() {
    let made = made(
        "CREATE TABLE t (id INTEGER PRIMARY KEY, station TEXT, level REAL, remark TEXT, at TEXT DEFAULT CURRENT_TIMESTAMP);",
    )
    .await;
    let refused = made.load("station,level\nB12,3.5\n", "once").await.unwrap_err().to_string();
    assert!(refused.contains("no column \"remark\"") && refused.contains("missing = \"empty\""), "{refused}");
    made.load("station,level,remark\nB12,3.5,\n", "twice").await.unwrap();
    let loading = Loading { said: Load { missing_stay_empty: true, ..usual() }, key: "empty".to_owned() };
    load(&made.source, loading, std::io::Cursor::new(b"station,level\nB13,4.5\n".to_vec())).await.unwrap();
    assert_eq!(made.extract("SELECT station, remark FROM t", b',').await.1, "station,remark\nB12,\nB13,\n");
}

#[tokio::test]
async fn a_text_that_the_database_would_make_another_number_of_is_refused_and_one_in_a_column_of_texts_stays() {
    let text = "code\n70.10\n";
    for declared in ["TEXT", "VARCHAR(10)", "CLOB", ""] {
        let made = made(&format!("CREATE TABLE t (code {declared});")).await;
        made.load(text, "once").await.unwrap();
        assert_eq!(made.extract("SELECT code FROM t", b',').await.1, text, "{declared}");
    }
    let made = made("CREATE TABLE t (code STRING, sum NUMERIC DEFAULT 0);").await;
    let refused = made.load(text, "once").await.unwrap_err().to_string();
    assert!(refused.contains("code is \"70.10\"") && refused.contains("would keep 70.1"), "{refused}");
    made.load("code,sum\nB12,70.10\n12,1e5\n", "well").await.unwrap();
    let long = made.load("code,sum\nB12,12345678901234567890.123\n", "long").await.unwrap_err().to_string();
    assert!(long.contains("would keep 12345678901234567000"), "{long}");
}

#[tokio::test]
async fn what_a_writer_that_was_ended_left_unfinished_is_undone_before_a_table_is_read() {
    let made = made("CREATE TABLE t (name TEXT); INSERT INTO t VALUES ('committed')").await;
    let DatabaseKind::Sqlite { file } = &made.source.database.kind else { panic!() };
    let mut writer = SqliteConnectOptions::new().filename(file).pragma("cache_size", "5").connect().await.unwrap();
    writer.execute("BEGIN IMMEDIATE").await.unwrap();
    writer.execute("UPDATE t SET name = 'never committed'").await.unwrap();
    for _ in 0..200 {
        writer.execute("INSERT INTO t VALUES (hex(zeroblob(2000)))").await.unwrap();
    }
    // As the disk looks when the writer is ended now.
    let folder = tempfile::tempdir().unwrap();
    let left = folder.path().join("survey.db");
    std::fs::copy(file, &left).unwrap();
    std::fs::copy(format!("{file}-journal"), folder.path().join("survey.db-journal")).unwrap();
    let kind = DatabaseKind::Sqlite { file: left.display().to_string() };
    let database = Database { name: Name::new("survey").unwrap(), title: "Survey".to_owned(), kind };
    let left = Made { _folder: folder, source: Source { database, password: None } };
    assert_eq!(left.extract("SELECT name FROM t", b',').await, (1, "name\ncommitted\n".to_owned()));
}
