//! Places of a network whose other end lies, babbles, never ends or leads elsewhere: nothing is called delivered that is not
//! there, nothing of others is touched, and everything ends.

use porter::deliver::remote::{Protocol, far};
use porter::deliver::{Cargo, Published, Remote, Remotes, Ticket, Trouble, Whose};
use porter::files::{Quiet, copy};
use porter::services::{Login, Secret};
use porter::store::MadeFile;
use rstest::rstest;
use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};

const PASSWORD: &str = "tide-and-time";

/// One request as it came.
#[derive(Clone, Debug)]
struct Asked {
    method: String,
    path: String,
    query: BTreeMap<String, String>,
    head: String,
    body: Vec<u8>,
}

enum Answer {
    /// Status, more lines of the head, body.
    Says(u16, String, Vec<u8>),
    /// A body without an end.
    Endless,
    /// The line stays open, and nothing comes.
    Silence,
    /// Word for word.
    Raw(&'static str),
}

fn says(status: u16, head: impl Into<String>, body: impl Into<Vec<u8>>) -> Answer {
    Answer::Says(status, head.into(), body.into())
}

/// A server on a port of its own, and what it was asked.
fn server(answer: impl Fn(&Asked) -> Answer + Send + Sync + 'static) -> (u16, Arc<Mutex<Vec<Asked>>>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let asked: Arc<Mutex<Vec<Asked>>> = Arc::default();
    let (answer, all) = (Arc::new(answer), asked.clone());
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let (answer, all) = (answer.clone(), all.clone());
            std::thread::spawn(move || {
                while let Some(a) = request(&stream) {
                    all.lock().unwrap().push(a.clone());
                    if !give(&stream, &a, answer(&a)) {
                        return;
                    }
                }
            });
        }
    });
    (port, asked)
}

fn give(mut stream: &TcpStream, asked: &Asked, answer: Answer) -> bool {
    match answer {
        Answer::Says(status, more, body) => {
            // What is told of the length of an answer to HEAD stands in its own lines.
            let length = match asked.method.as_str() {
                "HEAD" => String::new(),
                _ => format!("content-length: {}\r\n", body.len()),
            };
            let head = format!("HTTP/1.1 {status} Said\r\n{more}{length}\r\n");
            let body = if asked.method == "HEAD" { &[] } else { body.as_slice() };
            stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body)).is_ok()
        }
        Answer::Endless => {
            let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nconnection: close\r\n\r\n");
            while stream.write_all(&[b'x'; 1 << 16]).is_ok() {}
            false
        }
        Answer::Silence => {
            std::thread::sleep(Duration::from_secs(20));
            false
        }
        Answer::Raw(text) => {
            let _ = stream.write_all(text.as_bytes());
            false
        }
    }
}

fn request(stream: &TcpStream) -> Option<Asked> {
    let mut from = BufReader::new(stream);
    let mut head = String::new();
    while !head.ends_with("\r\n\r\n") {
        if from.read_line(&mut head).ok()? == 0 {
            return None;
        }
    }
    let lower = head.to_lowercase();
    let length = lower.split("content-length: ").nth(1).and_then(|l| l.split("\r\n").next()?.parse().ok());
    let mut body = vec![0; length.unwrap_or(0)];
    from.read_exact(&mut body).ok()?;
    let mut words = head.split(' ');
    let (method, target) = (words.next()?.to_owned(), words.next()?.to_owned());
    let (path, query) = target.split_once('?').unwrap_or((&target, ""));
    let pairs = query.split('&').map(|p| p.split_once('=').unwrap_or((p, "")));
    let decoded = porter::deliver::remote::decoded;
    let query = pairs.map(|(k, v)| (decoded(k), decoded(v))).collect();
    Some(Asked { method, path: decoded(path), query, head, body })
}

fn cargo(work: &Path, content: &[u8]) -> Cargo {
    let path = work.join("made.mp4");
    std::fs::write(&path, content).unwrap();
    let digest = copy::digest(&path, false).unwrap();
    let file = MadeFile { inside: String::new(), bytes: content.len() as u64, digest, ours: false };
    Cargo { path, files: vec![file], ..Cargo::default() }
}

/// An output of two files.
fn folder(work: &Path) -> Cargo {
    let path = work.join("made");
    std::fs::create_dir_all(&path).unwrap();
    let each = [("index.m3u8", &b"#EXTM3U"[..]), ("1.m4s", &[7; 3000])].map(|(inside, content)| {
        std::fs::write(path.join(inside), content).unwrap();
        let digest = copy::digest(&path.join(inside), false).unwrap();
        MadeFile { inside: inside.into(), bytes: content.len() as u64, digest, ours: false }
    });
    Cargo { path, files: each.to_vec(), ..Cargo::default() }
}

fn remote(protocol: Protocol, port: u16, base: &str, work: &Path) -> Remote {
    let secret = work.join("secret");
    std::fs::write(&secret, PASSWORD).unwrap();
    std::fs::set_permissions(&secret, std::fs::Permissions::from_mode(0o600)).unwrap();
    Remote {
        protocol,
        address: format!("http://127.0.0.1:{port}{base}"),
        host: "127.0.0.1".into(),
        port,
        base: base.into(),
        tls: false,
        login: Login::Password { user: "anna".into(), password: Secret::File(secret) },
        key: None,
        known_hosts: None,
        host_key: None,
        certificates: None,
        timeout: Duration::from_secs(2),
        region: "us-east-1".into(),
        storage_class: None,
        link: None,
    }
}

/// The whole way of a delivery, as a job goes it.
fn deliver(remote: &Remote, cargo: &Cargo) -> Result<Published, Trouble> {
    let place = Arc::<Remotes>::default().open(remote)?;
    let ticket = place.prepare(cargo, "film.mp4", &place.begin("house-1-1")?)?;
    place.stage(cargo, "film.mp4", &ticket, &Quiet)?;
    place.publish(&ticket, "film.mp4")
}

/// How a storage of objects deviates from what it should do.
#[derive(Clone, Copy, PartialEq)]
enum Lie {
    None,
    /// Its listings are of the whole bucket, whatever is asked.
    ListsAll,
    /// Each page of a listing has another behind it.
    ListsOn,
    SameTokenAgain,
    /// The list of parts lacks the last.
    ForgetsAPart,
    /// What it makes of parts lacks the end.
    CutsOff,
    /// It tells other checksums than those of what it got.
    OtherChecksum,
    /// Completing fails behind a good first line.
    FailsLate,
}

/// Objects in a bucket called "out".
#[derive(Default)]
struct Storage {
    objects: BTreeMap<String, (Vec<u8>, String)>,
    parts: BTreeMap<u16, Vec<u8>>,
    ticket: String,
    pages: usize,
}

fn etag(bytes: &[u8]) -> String {
    use md5::{Digest, Md5};
    Md5::digest(bytes).iter().map(|b| format!("{b:02x}")).collect()
}

impl Storage {
    fn answer(&mut self, a: &Asked, lie: Lie) -> Answer {
        let key = a.path.strip_prefix("/out").unwrap_or_default().trim_start_matches('/').to_owned();
        let has = |name: &str| a.query.contains_key(name);
        let mut sum = etag(&a.body);
        if lie == Lie::OtherChecksum {
            sum = etag(b"something else");
        }
        let header = |name: &str| {
            let lines = a.head.lines().filter_map(|l| l.split_once(": "));
            lines.into_iter().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.to_owned())
        };
        let ticket = header("x-amz-meta-deft-porter-ticket").unwrap_or_default();
        match a.method.as_str() {
            "GET" if has("list-type") => self.listing(&a.query["prefix"], lie),
            "GET" if has("uploadId") => {
                let shown =
                    self.parts.len() - usize::from(lie == Lie::ForgetsAPart && !self.parts.is_empty());
                let each = self.parts.iter().take(shown).map(|(n, b)| {
                    let (sum, size) = (etag(b), b.len());
                    format!(
                        "<Part><PartNumber>{n}</PartNumber><LastModified>2026-11-28T00:00:00Z</LastModified>\
                        <ETag>\"{sum}\"</ETag><Size>{size}</Size></Part>"
                    )
                });
                let text = format!(
                    "<ListPartsResult xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\"><Bucket>out</Bucket>\
                    <Key>{key}</Key><UploadId>up</UploadId><MaxParts>1000</MaxParts>\
                    <IsTruncated>false</IsTruncated>{}</ListPartsResult>",
                    each.collect::<String>()
                );
                says(200, "", text)
            }
            "POST" if has("uploads") => {
                self.ticket = ticket;
                let text = "<InitiateMultipartUploadResult xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\">\
                    <Bucket>out</Bucket><Key>k</Key><UploadId>up</UploadId></InitiateMultipartUploadResult>";
                says(200, "", text)
            }
            "PUT" if has("partNumber") => {
                self.parts.insert(a.query["partNumber"].parse().unwrap(), a.body.clone());
                says(200, format!("etag: \"{sum}\"\r\n"), "")
            }
            "POST" if has("uploadId") => {
                if lie == Lie::FailsLate {
                    return says(200, "", "<Error><Code>InternalError</Code><Message>No.</Message></Error>");
                }
                // As the protocol has it: of the parts that are named, and they must be there.
                let text = String::from_utf8_lossy(&a.body);
                let mut whole = Vec::new();
                for (n, part) in &self.parts {
                    if text.contains(&etag(part)) && text.contains(&format!("<PartNumber>{n}</PartNumber>")) {
                        whole.extend_from_slice(part);
                    }
                }
                if lie == Lie::CutsOff {
                    whole.truncate(whole.len() / 2);
                }
                self.objects.insert(key, (whole, self.ticket.clone()));
                says(200, "", "<CompleteMultipartUploadResult/>")
            }
            "PUT" => {
                let copied = header("x-amz-copy-source").map(|from| from.replacen("/out/", "", 1));
                let object = match copied {
                    Some(from) => self.objects[&from].clone(),
                    None => (a.body.clone(), ticket),
                };
                self.objects.insert(key, object);
                says(200, format!("etag: \"{sum}\"\r\n"), "")
            }
            "HEAD" => match self.objects.get(&key) {
                Some((bytes, ticket)) => {
                    let (n, sum) = (bytes.len(), etag(bytes));
                    let head = format!(
                        "content-length: {n}\r\netag: \"{sum}\"\r\nx-amz-meta-deft-porter-ticket: {ticket}\r\n"
                    );
                    says(200, head, "")
                }
                None => says(404, "content-length: 0\r\n", ""),
            },
            "DELETE" => {
                if has("uploadId") {
                    self.parts.clear();
                }
                self.objects.remove(&key);
                says(204, "", "")
            }
            _ => says(405, "", ""),
        }
    }

    fn listing(&mut self, prefix: &str, lie: Lie) -> Answer {
        self.pages += 1;
        let mut keys: Vec<String> =
            self.objects.keys().filter(|k| lie == Lie::ListsAll || k.starts_with(prefix)).cloned().collect();
        let (mut on, page) = (String::new(), self.pages);
        if let Lie::ListsOn | Lie::SameTokenAgain = lie {
            let token = if lie == Lie::ListsOn { page } else { 0 };
            on = format!("<NextContinuationToken>t{token}</NextContinuationToken>");
            keys = (0..20_000).map(|n| format!("{prefix}{page}-{n}")).collect();
        }
        let each = keys.iter().map(|k| format!("<Contents><Key>{k}</Key><Size>1</Size></Contents>"));
        let text = format!(
            "<ListBucketResult xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\"><MaxKeys>1000</MaxKeys>\
            <EncodingType>url</EncodingType>{}{on}</ListBucketResult>",
            each.collect::<String>()
        );
        says(200, "", text)
    }
}

fn storage(lie: Lie) -> (u16, Arc<Mutex<Storage>>) {
    let own: Arc<Mutex<Storage>> = Arc::default();
    let all = own.clone();
    let (port, _) = server(move |a| all.lock().unwrap().answer(a, lie));
    (port, own)
}

fn now(all: &Mutex<Storage>) -> MutexGuard<'_, Storage> {
    all.lock().unwrap()
}

/// Twenty megabytes: three parts.
fn long() -> Vec<u8> {
    (0..20_000_000u32).map(|n| (n % 251) as u8).collect()
}

#[rstest]
#[case::honest(Lie::None, true)]
#[case::forgets_a_part(Lie::ForgetsAPart, true)]
#[case::cuts_off(Lie::CutsOff, false)]
#[case::other_checksum(Lie::OtherChecksum, false)]
#[case::fails_late(Lie::FailsLate, false)]
fn an_object_is_called_delivered_only_if_it_is_whole(#[case] lie: Lie, #[case] good: bool) {
    let work = tempfile::tempdir().unwrap();
    let (port, all) = storage(lie);
    let remote = remote(Protocol::S3, port, "/out", work.path());
    let content = long();
    let result = deliver(&remote, &cargo(work.path(), &content));
    match good {
        true => {
            assert_eq!(result, Ok(Published::Done));
            assert!(now(&all).objects["film.mp4"].0 == content);
        }
        false => assert!(matches!(result, Err(Trouble::Away(_))), "{result:?}"),
    }
}

/// What is staged is listed to be published and to be removed: a list that names other objects is not gone by.
#[test]
fn objects_of_others_stay_whatever_is_listed() {
    let work = tempfile::tempdir().unwrap();
    let (port, all) = storage(Lie::ListsAll);
    for key in ["b", "ä", "another/film.mp4", ".house-1-1.deft-porter.part", "zzz/z"] {
        now(&all).objects.insert(key.into(), (vec![1; 9], String::new()));
    }
    let before = now(&all).objects.clone();
    let remote = remote(Protocol::S3, port, "/out", work.path());
    let place = Arc::<Remotes>::default().open(&remote).unwrap();
    let cargo = folder(work.path());
    let ticket = place.begin("house-1-1").unwrap();
    place.stage(&cargo, "film", &ticket, &Quiet).unwrap();
    for result in [place.publish(&ticket, "film").map(|_| ()), place.discard("film", &ticket)] {
        let Err(Trouble::Away(why)) = result else { panic!("{result:?}") };
        assert!(why.contains("names what was not asked for"), "{why}");
    }
    assert!(before.iter().all(|(k, o)| now(&all).objects.get(k) == Some(o)));
}

#[rstest]
#[case::with_other_tokens(Lie::ListsOn)]
#[case::with_the_same(Lie::SameTokenAgain)]
fn a_listing_without_an_end_is_ended(#[case] lie: Lie) {
    let work = tempfile::tempdir().unwrap();
    let (port, all) = storage(lie);
    let remote = remote(Protocol::S3, port, "/out", work.path());
    let found = far::open(&remote).unwrap().list(4);
    let Err(Trouble::Away(why)) = found else { panic!("{:?}", found.map(|f| f.len())) };
    assert!(why.contains("has no end"), "{why}");
    assert!(now(&all).pages < 300, "{}", now(&all).pages);
}

/// Of one bucket many servers write a space as in a form.
#[test]
fn names_with_spaces_are_known_in_both_ways_of_writing() {
    let work = tempfile::tempdir().unwrap();
    let entry = |key: &str| format!("<Contents><Key>{key}</Key><Size>1</Size></Contents>");
    let text = format!(
        "<ListBucketResult xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\"><MaxKeys>9</MaxKeys>{}{}</ListBucketResult>",
        entry("day+1/a.mp4"),
        entry("day%201/b%2Bc.mp4")
    );
    let (port, _) = server(move |_| says(200, "", text.clone()));
    let remote = remote(Protocol::S3, port, "/out/day 1", work.path());
    let found = far::open(&remote).unwrap().list(4).unwrap();
    let paths: Vec<_> = found.iter().map(|t| t.path.as_str()).collect();
    assert_eq!(paths, ["a.mp4", "b+c.mp4"]);
}

/// What an answer of any protocol must never do: be taken for good, be followed with a login, or hold the porter.
#[rstest]
fn an_end_that_does_not_speak_the_protocol_delivers_nothing(
    #[values(Protocol::S3, Protocol::WebDav, Protocol::Tus, Protocol::Publish)] protocol: Protocol,
    #[values("page", "elsewhere", "silence", "endless", "babble", "half", "numbers")] how: &'static str,
) {
    let work = tempfile::tempdir().unwrap();
    let (other, led) = server(|_| says(200, "", "welcome"));
    let elsewhere = format!("location: http://127.0.0.1:{other}/in\r\n");
    let (port, asked) = server(move |_| match how {
        "page" => says(200, "content-type: text/html\r\n", "<html>Please <b>sign in</b></html>"),
        "elsewhere" => says(307, elsewhere.clone(), ""),
        "silence" => Answer::Silence,
        "endless" => Answer::Endless,
        "babble" => Answer::Raw("220 ready\r\n\r\n"),
        "half" => Answer::Raw("HTTP/1.1 200 OK\r\ncontent-length: 500\r\n\r\n<half>"),
        // Numbers that no counter holds.
        _ => says(
            200,
            "upload-offset: 99999999999999999999\r\netag: \"\"\r\nlocation: :::\r\n",
            "{\"id\":\"1\",\"upload\":\"\",\"state\":\"\",\"publish\":1}",
        ),
    });
    let remote = remote(protocol, port, "/in", work.path());
    let begun = Instant::now();
    let result = deliver(&remote, &cargo(work.path(), &[5; 70_000]));
    let why = match &result {
        Err(Trouble::Away(why) | Trouble::Refused(why)) => why,
        other => panic!("{other:?}"),
    };
    assert!(!why.contains(PASSWORD) && why.len() < 1000, "{why}");
    assert!(begun.elapsed() < Duration::from_secs(60), "{:?}", begun.elapsed());
    assert!(!asked.lock().unwrap().is_empty());
    assert!(led.lock().unwrap().is_empty(), "a login went elsewhere: {:?}", led.lock().unwrap());
}

/// Whoever can act is told by the kind of trouble: time, room, or a person.
#[rstest]
fn a_refusal_says_who_can_act(
    #[values(Protocol::S3, Protocol::WebDav, Protocol::Tus, Protocol::Publish)] protocol: Protocol,
    #[values((401, "person"), (403, "person"), (408, "time"), (429, "time"), (503, "time"), (507, "room"))]
    (status, who): (u16, &str),
) {
    let work = tempfile::tempdir().unwrap();
    let (port, _) = server(move |a| says(status, "", format!("no {}", a.head)));
    let remote = remote(protocol, port, "/in", work.path());
    let trouble = deliver(&remote, &cargo(work.path(), &[5; 70_000])).unwrap_err();
    let told = match &trouble {
        Trouble::Refused(_) => "person",
        Trouble::Away(_) => "time",
        Trouble::Full(_) => "room",
        other => panic!("{other:?}"),
    };
    assert_eq!(told, who, "{trouble:?}");
    // A server that repeats what it was sent gives nothing away.
    let why = trouble.to_string();
    assert!(!why.contains(PASSWORD) && !why.contains("YW5uYTp0aWRl"), "{why}");
}

/// The same of a server of FTP: line by line.
#[rstest]
#[case::says_no("530 no, PASS", "is not let in")]
#[case::gone("421 closing", "closing")]
#[case::no_number("welcome", "")]
#[case::nothing("", "")]
fn a_login_that_is_repeated_is_covered(#[case] answer: &'static str, #[case] want: &str) {
    let work = tempfile::tempdir().unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let mut lines = BufReader::new(&stream).lines();
            let mut to = &stream;
            let _ = to.write_all(b"220 ready\r\n").map(|()| lines.next());
            let asked = to.write_all(b"331 and the password?\r\n").map(|()| lines.next());
            let pass = asked.ok().flatten().and_then(Result::ok).unwrap_or_default();
            let _ = to.write_all(format!("{answer} {pass}\r\n").as_bytes());
        }
    });
    let mut remote = remote(Protocol::Ftp, port, "/in", work.path());
    remote.address = format!("ftp://127.0.0.1:{port}/in");
    let why = match deliver(&remote, &cargo(work.path(), &[5; 70_000])).unwrap_err() {
        Trouble::Refused(why) | Trouble::Away(why) => why,
        other => panic!("{other:?}"),
    };
    assert!(why.contains(want) && !why.contains(PASSWORD), "{why}");
}

/// A line of a listing that does not end.
#[test]
fn a_listing_without_an_end_is_let_be() {
    let work = tempfile::tempdir().unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let lines = BufReader::new(&stream).lines();
            let mut to = &stream;
            let mut data = None;
            let _ = to.write_all(b"220 ready\r\n");
            for line in lines.map_while(Result::ok) {
                let word = line.split(' ').next().unwrap_or_default().to_owned();
                let answer = match word.as_str() {
                    "USER" => "331 and the password?".to_owned(),
                    "PASS" => "230 in".into(),
                    "TYPE" => "200 yes".into(),
                    "MLST" => "250-of it\r\n type=dir;size=0; /in\r\n250 end".into(),
                    "PASV" => {
                        let other = TcpListener::bind("127.0.0.1:0").unwrap();
                        let port = other.local_addr().unwrap().port();
                        data = Some(other);
                        format!("227 at (127,0,0,1,{},{})", port >> 8, port & 255)
                    }
                    "MLSD" => "150 here it comes".into(),
                    _ => "502 no".into(),
                };
                let _ = to.write_all(format!("{answer}\r\n").as_bytes());
                if let Some((mut to, _)) = data.take_if(|_| word == "MLSD").and_then(|d| d.accept().ok()) {
                    while to.write_all(&[b'x'; 1 << 16]).is_ok() {}
                }
            }
        }
    });
    let mut remote = remote(Protocol::Ftp, port, "/in", work.path());
    remote.address = format!("ftp://127.0.0.1:{port}/in");
    let begun = Instant::now();
    match far::open(&remote).and_then(|mut f| f.list(3)) {
        Err(Trouble::Away(why)) => assert!(why.contains("its listing has no end"), "{why}"),
        other => panic!("{other:?}"),
    }
    assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", begun.elapsed());
}

/// Signatures count for a while: a clock that is wrong is named.
#[test]
fn a_clock_that_is_wrong_is_named() {
    let work = tempfile::tempdir().unwrap();
    let told =
        "<Error><Code>RequestTimeTooSkewed</Code><Message>The difference is too large.</Message></Error>";
    let (port, _) = server(move |_| says(403, "", told));
    let remote = remote(Protocol::S3, port, "/out", work.path());
    let Err(Trouble::Refused(why)) = deliver(&remote, &cargo(work.path(), &[5; 70_000])) else {
        panic!("it was delivered")
    };
    assert!(why.contains("is the clock of this machine right?"), "{why}");
}

/// Files by their paths.
type Files = Arc<Mutex<BTreeMap<String, Vec<u8>>>>;

/// A server of WebDAV with these files and folders; answers of `instead` come first.
fn webdav(
    files: &[(&str, &[u8])],
    instead: impl Fn(&Asked) -> Option<Answer> + Send + Sync + 'static,
) -> (u16, Files) {
    let files = files.iter().map(|(p, b)| ((*p).to_owned(), b.to_vec()));
    let all: Files = Arc::new(Mutex::new(files.collect()));
    let own = all.clone();
    let (port, _) = server(move |a| {
        if let Some(answer) = instead(a) {
            return answer;
        }
        let mut files = own.lock().unwrap();
        let path = a.path.trim_end_matches('/').to_owned();
        let is_folder = files.keys().any(|k| k.starts_with(&format!("{path}/")));
        match a.method.as_str() {
            "PROPFIND" if is_folder || path == "/in" => says(207, "", told(&path, None)),
            "PROPFIND" => match files.get(&path) {
                Some(bytes) => says(207, "", told(&path, Some(bytes.len()))),
                None => says(404, "", ""),
            },
            "PUT" => {
                files.insert(path, a.body.clone());
                says(201, "", "")
            }
            "GET" => files.get(&path).map_or(says(404, "", ""), |b| says(200, "", b.clone())),
            "DELETE" => says(if files.remove(&path).is_some() { 204 } else { 404 }, "", ""),
            "MOVE" => {
                let to = a.head.to_lowercase().split("destination: ").nth(1).unwrap().to_owned();
                let to = to.split("\r\n").next().unwrap().splitn(4, '/').nth(3).unwrap().to_owned();
                let bytes = files.remove(&path).unwrap();
                files.insert(format!("/{to}"), bytes);
                says(201, "", "")
            }
            _ => says(405, "", ""),
        }
    });
    (port, all)
}

/// One thing of a listing.
fn entry(path: &str, bytes: Option<usize>) -> String {
    let kind = match bytes {
        Some(n) => format!("<D:resourcetype/><D:getcontentlength>{n}</D:getcontentlength>"),
        None => "<D:resourcetype><D:collection/></D:resourcetype>".into(),
    };
    format!(
        "<D:response><D:href>{path}</D:href><D:propstat><D:prop>{kind}</D:prop></D:propstat></D:response>"
    )
}

fn told(path: &str, bytes: Option<usize>) -> String {
    format!("<D:multistatus xmlns:D=\"DAV:\">{}</D:multistatus>", entry(path, bytes))
}

#[rstest]
#[case::honest("", "")]
#[case::without_an_end("endless", "more comes back from there than was sent")]
#[case::something_else("other", "reads back wrong")]
#[case::less("less", "reads back wrong")]
fn a_file_is_read_back_as_it_was_sent(#[case] lie: &'static str, #[case] want: &str) {
    let work = tempfile::tempdir().unwrap();
    let (port, files) = webdav(&[], move |a| match (a.method.as_str(), lie) {
        ("GET", "endless") => Some(Answer::Endless),
        ("GET", "other") => Some(says(200, "", vec![6; 70_000])),
        ("GET", "less") => Some(says(200, "", vec![5; 69_999])),
        _ => None,
    });
    let remote = remote(Protocol::WebDav, port, "/in", work.path());
    let result = deliver(&remote, &cargo(work.path(), &[5; 70_000]));
    match (want, &result) {
        ("", Ok(Published::Done)) => assert_eq!(files.lock().unwrap()["/in/film.mp4"], [5; 70_000]),
        (want, Err(Trouble::Away(why))) if !want.is_empty() => {
            assert!(why.contains(want), "{why}");
            assert!(!files.lock().unwrap().contains_key("/in/film.mp4"));
        }
        _ => panic!("{result:?}"),
    }
}

/// A folder that is to be removed is gone through by the names that the other end tells.
#[test]
fn what_is_cleared_away_never_leads_out() {
    let work = tempfile::tempdir().unwrap();
    let stage = "/in/.house-1-1.deft-porter.part";
    let inside = format!("{stage}/1.m4s");
    let others = ["/in/other.mp4", "/in/keep/film.mp4"];
    let files = [(inside.as_str(), &b"1"[..]), (others[0], b"2"), (others[1], b"3")];
    let whole = inside.clone();
    let (port, all) = webdav(&files, move |a| {
        let listing = a.method == "PROPFIND" && a.head.to_lowercase().contains("depth: 1");
        // The folder itself, the one above, a way out, and what is in it.
        let names = [stage.to_owned(), format!("{stage}/.."), format!("{stage}/%2E%2E%2Fother.mp4")];
        let each = names.iter().map(|n| entry(n, None)).collect::<String>() + &entry(&whole, Some(1));
        listing.then(|| says(207, "", format!("<D:multistatus xmlns:D=\"DAV:\">{each}</D:multistatus>")))
    });
    let remote = remote(Protocol::WebDav, port, "/in", work.path());
    let place = Arc::<Remotes>::default().open(&remote).unwrap();
    let ticket = place.begin("house-1-1").unwrap();
    assert_eq!(ticket, Ticket::Staged(".house-1-1.deft-porter.part".into()));
    place.discard("film", &ticket).unwrap();
    let left: Vec<String> = all.lock().unwrap().keys().cloned().collect();
    assert_eq!(left, ["/in/keep/film.mp4", "/in/other.mp4"]);
}

/// Each folder has one more in it.
#[test]
fn folders_without_an_end_are_not_followed_for_ever() {
    let work = tempfile::tempdir().unwrap();
    let deeper = "a".repeat(100);
    let (port, _) = webdav(&[], move |a| {
        let path = a.path.trim_end_matches('/');
        let listing = a.head.to_lowercase().contains("depth: 1");
        let inside = if listing { entry(&format!("{path}/{deeper}"), None) } else { String::new() };
        let all = entry(path, None) + &inside;
        Some(says(207, "", format!("<D:multistatus xmlns:D=\"DAV:\">{all}</D:multistatus>")))
    });
    let remote = remote(Protocol::WebDav, port, "/in", work.path());
    assert_eq!(far::open(&remote).unwrap().list(usize::MAX).unwrap(), []);
}

/// What uploads are told of themselves.
#[rstest]
#[case::more_than_there_is("upload-offset: 80000\r\n", "it has more than was sent")]
#[case::nothing_taken("upload-offset: 0\r\n", "did not take all")]
#[case::no_number("upload-offset: -1\r\n", "does not say how much it has")]
#[case::nothing("", "does not say how much it has")]
fn an_upload_is_as_far_as_it_can_be(#[case] offset: &'static str, #[case] want: &str) {
    let work = tempfile::tempdir().unwrap();
    let (other, led) = server(|_| says(200, "", ""));
    let (port, asked) = server(move |a| match a.method.as_str() {
        "POST" => says(201, format!("location: http://anna@127.0.0.1:{other}/up/1\r\n"), ""),
        "HEAD" => says(200, offset, ""),
        "PATCH" => says(204, offset, ""),
        _ => says(204, "", ""),
    });
    let remote = remote(Protocol::Tus, port, "/up", work.path());
    let cargo = cargo(work.path(), &[5; 70_000]);
    let Err(Trouble::Away(why)) = deliver(&remote, &cargo) else { panic!("it was delivered") };
    assert!(why.contains(want), "{why}");
    assert!(led.lock().unwrap().is_empty(), "it went elsewhere");
    // Only the path of where it is to be uploaded counts.
    assert!(asked.lock().unwrap().iter().any(|a| a.path == "/up/1"));
    let place = Arc::<Remotes>::default().open(&remote).unwrap();
    let elsewhere = format!("http://127.0.0.1:{other}/up/1");
    let ticket = Ticket::Upload { tag: cargo.files[0].digest.clone(), id: elsewhere };
    assert_eq!(place.whose("film.mp4", &ticket, &cargo), Ok(Whose::Nothing));
    place.discard("film.mp4", &ticket).unwrap();
    assert!(led.lock().unwrap().is_empty(), "it went elsewhere");
}
