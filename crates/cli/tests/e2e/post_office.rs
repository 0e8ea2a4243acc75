//! A mail server for tests (SMTP, RFC 5321): it takes, refuses, and breaks off.

use std::collections::VecDeque;
use std::io::{BufRead, BufReader, Write};
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
}

/// The server.
pub struct PostOffice {
    pub port: u16,
    next: Arc<Mutex<VecDeque<Answer>>>,
    taken: Arc<Mutex<Vec<Taken>>>,
}

impl PostOffice {
    pub fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let office = PostOffice { port, next: Arc::default(), taken: Arc::default() };
        let (next, taken) = (Arc::clone(&office.next), Arc::clone(&office.taken));
        std::thread::spawn(move || {
            for caller in listener.incoming().flatten() {
                let answer = next.lock().unwrap().pop_front();
                let taken = Arc::clone(&taken);
                // One that is cut off has ended.
                std::thread::spawn(move || converse(&caller, answer, &taken));
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

fn converse(caller: &TcpStream, answer: Option<Answer>, taken: &Mutex<Vec<Taken>>) -> Option<()> {
    caller.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    let (mut out, mut lines) = (caller, BufReader::new(caller).lines());
    let mut say = |text: &str| out.write_all(format!("{text}\r\n").as_bytes()).ok();
    say("220 office.sound.example ESMTP")?;
    if answer == Some(Answer::DropAfterGreeting) {
        return None;
    }
    let mut mail = Taken::default();
    while let Some(Ok(line)) = lines.next() {
        let word = line.split([' ', ':']).next().unwrap_or_default().to_ascii_uppercase();
        match word.as_str() {
            "EHLO" => say("250-office.sound.example\r\n250 AUTH PLAIN")?,
            "AUTH" => {
                let coded = line.rsplit(' ').next().unwrap_or_default();
                mail.user = Some(plain(coded));
                say("235 you are in")?;
            }
            "RCPT" if answer == Some(Answer::Temporary) => say("451 later")?,
            "RCPT" if answer == Some(Answer::Refused) => say("550 there is nobody of that name")?,
            "RCPT" => {
                let address = line.split(['<', '>']).nth(1).unwrap_or_default();
                mail.to.push(address.to_owned());
                say("250 so be it")?;
            }
            "DATA" => {
                say("354 go on")?;
                for line in lines.by_ref().map_while(Result::ok) {
                    if line == "." {
                        break;
                    }
                    mail.text.push_str(&line);
                    mail.text.push('\n');
                }
                taken.lock().unwrap().push(std::mem::take(&mut mail));
                if answer == Some(Answer::DropAfterData) {
                    return None;
                }
                say("250 taken")?;
            }
            "QUIT" => return say("221 farewell"),
            _ => say("250 so be it")?,
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
