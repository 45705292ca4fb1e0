use super::*;

fn sh(script: &str, limit: Duration, most: u64) -> (Result<Printed, ErrandError>, Vec<u8>) {
    let folder = tempfile::tempdir().unwrap();
    let program = Allowed {
        path: "/bin/sh".into(),
        args: vec!["-c".to_owned(), script.to_owned()],
        environment: BTreeMap::from([("STATION".to_owned(), "B12".to_owned())]),
    };
    let running = Running {
        args: vec!["name".into(), "$(id); a b".into()],
        environment: vec![("WETBANK_FILE", "/tmp/x".into())],
        folder: folder.path().to_owned(),
        limit,
        most,
        stop: Arc::default(),
    };
    let mut output = Vec::new();
    let result = run(&program, &running, &mut output);
    (result, output)
}

const SOON: Duration = Duration::from_secs(20);

#[test]
fn what_it_is_told_reaches_it_as_it_is_and_no_shell_reads_it() {
    let (printed, output) = sh("printf '%s' \"$1\"", SOON, 1000);
    assert_eq!(output, b"$(id); a b");
    assert_eq!(printed.unwrap().said, "$(id); a b");
}

#[test]
fn it_gets_nothing_of_our_environment_and_no_input() {
    let (printed, _) = sh("env; cat", SOON, 10_000);
    let said = printed.unwrap().said;
    let mut keys: Vec<_> = said.lines().filter_map(|line| line.split_once('=')).map(|(key, _)| key).collect();
    keys.retain(|key| !["PWD", "_", "SHLVL", "OLDPWD"].contains(key));
    keys.sort_unstable();
    assert_eq!(keys, ["LANG", "PATH", "STATION", "WETBANK_FILE", "WETBANK_PROGRAM"]);
}

#[test]
fn one_that_fails_says_why() {
    let (result, _) = sh("echo working; echo 'no such station' >&2; exit 3", SOON, 1000);
    assert_eq!(result.unwrap_err().to_string(), "it ended with 3: no such station");
    let (result, _) = sh("echo only this; kill -9 $$", SOON, 1000);
    assert!(result.unwrap_err().to_string().contains("only this"));
}

#[test]
fn one_that_hangs_is_ended_with_all_that_it_started() {
    let folder = tempfile::tempdir().unwrap();
    let pids = folder.path().join("pids");
    let script = format!("trap '' TERM; sleep 600 & echo $! > {}; wait", pids.display());
    let (result, _) = sh(&script, Duration::from_millis(300), 1000);
    assert!(matches!(result, Err(ErrandError::TooMuch(_))), "{result:?}");
    let pid = fs::read_to_string(pids).unwrap();
    let stat = fs::read_to_string(format!("/proc/{}/stat", pid.trim())).unwrap_or_default();
    assert!(stat.is_empty() || stat.contains(") Z"), "{stat}");
}

#[test]
fn one_that_writes_without_end_is_ended() {
    let (result, output) = sh("yes", SOON, 1 << 20);
    assert!(matches!(result, Err(ErrandError::TooMuch(_))), "{result:?}");
    assert!(output.len() < 256 << 20);
}

#[test]
fn one_that_leaves_another_behind_is_not_waited_for() {
    let began = Instant::now();
    let (result, output) = sh("sleep 600 & echo done", SOON, 1000);
    assert_eq!((result.unwrap().size, output.as_slice()), (5, b"done\n".as_slice()));
    assert!(began.elapsed() < Duration::from_secs(15));
}

#[test]
fn one_that_leaves_its_group_and_holds_the_output_open_is_ended_and_not_waited_for() {
    let folder = tempfile::tempdir().unwrap();
    let pids = folder.path().join("pids");
    let leaving = format!("setsid sh -c 'echo $$ > {}; exec sleep 600' & sleep 0.5;", pids.display());
    for (rest, limit) in [("echo done", SOON), ("sleep 600", Duration::from_millis(900))] {
        let began = Instant::now();
        let (result, _) = sh(&format!("{leaving} {rest}"), limit, 1000);
        assert_eq!(result.is_ok(), limit == SOON, "{result:?}");
        assert!(began.elapsed() < Duration::from_secs(15));
        let pid = fs::read_to_string(&pids).unwrap();
        let stat = fs::read_to_string(format!("/proc/{}/stat", pid.trim())).unwrap_or_default();
        assert!(stat.is_empty() || stat.contains(") Z"), "{stat}");
    }
}

#[test]
fn it_is_ended_when_it_is_told_to_stop() {
    let program = Allowed { path: "/bin/sleep".into(), args: vec!["600".to_owned()], environment: BTreeMap::new() };
    let stop = Arc::new(AtomicBool::new(true));
    let running =
        Running { args: Vec::new(), environment: Vec::new(), folder: "/".into(), limit: SOON, most: 1000, stop };
    assert!(matches!(run(&program, &running, io::sink()), Err(ErrandError::Stopped)));
}

#[test]
fn a_list_that_others_may_write_is_not_believed() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("programs.toml");
    assert_eq!(Programs::read(&path).unwrap().names().count(), 0, "no list allows nothing");
    fs::write(&path, "[program.tide-check]\npath = \"/bin/true\"\n").unwrap();
    fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
    let programs = Programs::read(&path).unwrap();
    assert_eq!(programs.get("tide-check").unwrap().path, Path::new("/bin/true"));
    assert!(programs.get("other").is_none());
    fs::set_permissions(&path, fs::Permissions::from_mode(0o664)).unwrap();
    assert!(Programs::read(&path).unwrap_err().to_string().contains("chmod go-w"));
    fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).unwrap();
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o777)).unwrap();
    let told = Programs::read(&path).unwrap_err().to_string();
    assert!(told.contains("chmod go-w"), "whoever may write the folder may exchange the list: {told}");
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o700)).unwrap();
    for (text, said) in [("[program.x]\npath = \"true\"\n", "absolute"), ("[program.x]\npth = 1\n", "pth")] {
        fs::write(&path, text).unwrap();
        assert!(Programs::read(&path).unwrap_err().to_string().contains(said), "{text}");
    }
}
