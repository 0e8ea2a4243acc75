//! A mail server for tests (SMTP, RFC 5321): it takes, refuses, and breaks off.

use std::collections::VecDeque;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// What it does with the next who calls.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// It closes after its greeting.
    DropAfterGreeting,
    /// It says "later" to the recipient.
    Temporary,
    /// It says "never" to the recipient.
    Refused,
    /// It takes the mail and closes without a word.
    DropAfterData,
}

/// A mail that was taken.
#[derive(Clone, Debug, Default)]
pub struct Taken {
    pub to: Vec<String>,
    pub text: String,
    /// User and password, if somebody signed in.
    pub user: Option<String>,
    /// Whether nobody could read it on its way.
    pub encrypted: bool,
}

/// The server.
pub struct PostOffice {
    pub port: u16,
    next: Arc<Mutex<VecDeque<Answer>>>,
    taken: Arc<Mutex<Vec<Taken>>>,
}

/// How a conversation is encrypted.
#[derive(Clone)]
pub enum Cover {
    Never,
    /// When the caller asks for it (RFC 3207).
    Asked(Arc<rustls::ServerConfig>),
    /// From the beginning (RFC 8314).
    Whole(Arc<rustls::ServerConfig>),
}

impl PostOffice {
    pub fn start(cover: Cover) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let office = PostOffice { port, next: Arc::default(), taken: Arc::default() };
        let (next, taken) = (Arc::clone(&office.next), Arc::clone(&office.taken));
        std::thread::spawn(move || {
            for caller in listener.incoming().flatten() {
                let answer = next.lock().unwrap().pop_front();
                let (taken, cover) = (Arc::clone(&taken), cover.clone());
                caller.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
                // One that is cut off has ended.
                std::thread::spawn(move || match cover {
                    Cover::Never => converse(plain_line(caller), answer, &taken, None),
                    Cover::Asked(tls) => converse(plain_line(caller), answer, &taken, Some(tls)),
                    Cover::Whole(tls) => {
                        converse(covered(Box::new(caller), tls), answer, &taken, None)
                    }
                });
            }
        });
        office
    }

    pub fn will(&self, answers: impl IntoIterator<Item = Answer>) {
        self.next.lock().unwrap().extend(answers);
    }

    pub fn taken(&self) -> Vec<Taken> {
        self.taken.lock().unwrap().clone()
    }
}

trait Stream: Read + Write + Send {}
impl Stream for TcpStream {}
impl Stream for rustls::StreamOwned<rustls::ServerConnection, Box<dyn Stream>> {}

/// What is said to a caller, and heard of it.
struct Line {
    stream: BufReader<Box<dyn Stream>>,
    encrypted: bool,
}

fn plain_line(caller: TcpStream) -> Line {
    Line { stream: BufReader::new(Box::new(caller)), encrypted: false }
}

fn covered(stream: Box<dyn Stream>, tls: Arc<rustls::ServerConfig>) -> Line {
    let session = rustls::ServerConnection::new(tls).unwrap();
    let stream: Box<dyn Stream> = Box::new(rustls::StreamOwned::new(session, stream));
    Line { stream: BufReader::new(stream), encrypted: true }
}

impl Line {
    fn say(&mut self, text: &str) -> Option<()> {
        let stream = self.stream.get_mut();
        stream.write_all(format!("{text}\r\n").as_bytes()).ok()?;
        stream.flush().ok()
    }

    fn hear(&mut self) -> Option<String> {
        let mut line = String::new();
        self.stream.read_line(&mut line).ok().filter(|read| *read > 0)?;
        Some(line.trim_end().to_owned())
    }
}

fn converse(
    mut line: Line,
    answer: Option<Answer>,
    taken: &Mutex<Vec<Taken>>,
    mut offered: Option<Arc<rustls::ServerConfig>>,
) -> Option<()> {
    line.say("220 office.sound.example ESMTP")?;
    if answer == Some(Answer::DropAfterGreeting) {
        return None;
    }
    let mut mail = Taken::default();
    while let Some(said) = line.hear() {
        let word = said.split([' ', ':']).next().unwrap_or_default().to_ascii_uppercase();
        match word.as_str() {
            "EHLO" if offered.is_some() => {
                line.say("250-office.sound.example\r\n250 STARTTLS")?;
            }
            "EHLO" => {
                line.say("250-office.sound.example\r\n250 AUTH PLAIN")?;
            }
            "STARTTLS" => {
                let tls = offered.take()?;
                line.say("220 go on")?;
                line = covered(line.stream.into_inner(), tls);
            }
            "AUTH" => {
                let coded = said.rsplit(' ').next().unwrap_or_default();
                mail.user = Some(plain(coded));
                line.say("235 you are in")?;
            }
            "RCPT" if answer == Some(Answer::Temporary) => {
                line.say("451 later")?;
            }
            "RCPT" if answer == Some(Answer::Refused) => {
                line.say("550 there is nobody of that name")?;
            }
            "RCPT" => {
                let address = said.split(['<', '>']).nth(1).unwrap_or_default();
                mail.to.push(address.to_owned());
                line.say("250 so be it")?;
            }
            "DATA" => {
                line.say("354 go on")?;
                while let Some(said) = line.hear().filter(|said| said != ".") {
                    mail.text.push_str(&said);
                    mail.text.push('\n');
                }
                mail.encrypted = line.encrypted;
                taken.lock().unwrap().push(std::mem::take(&mut mail));
                if answer == Some(Answer::DropAfterData) {
                    return None;
                }
                line.say("250 taken")?;
            }
            "QUIT" => return line.say("221 farewell"),
            _ => {
                line.say("250 so be it")?;
            }
        }
    }
    None
}

/// User and password of `AUTH PLAIN` (RFC 4616).
fn plain(coded: &str) -> String {
    use std::process::{Command, Stdio};
    let mut base64 = Command::new("base64")
        .arg("-d")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    base64.stdin.take().unwrap().write_all(coded.as_bytes()).unwrap();
    let decoded = base64.wait_with_output().unwrap().stdout;
    String::from_utf8_lossy(&decoded).trim_matches('\0').replace('\0', " ")
}
