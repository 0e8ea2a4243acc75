//! A proxy between a client and a server that makes trouble on the way.

use std::collections::HashMap;
use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// What happens on the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trouble {
    /// Nothing.
    None,
    /// No connection is taken.
    Refuse,
    /// A connection is cut after so many bytes of the server.
    CutAnswers(u64),
    /// A connection is cut after so many bytes of the client.
    CutRequests(u64),
    /// Each piece waits for so many milliseconds.
    Delay(u64),
    /// After so many bytes of the server there is silence: nothing comes, and nothing is cut.
    Stall(u64),
}

/// A proxy on loopback.
pub struct Proxy {
    /// On loopback.
    pub port: u16,
    trouble: Arc<Mutex<Trouble>>,
    counts: Arc<Counts>,
}

/// What a proxy knows of its connections.
#[derive(Default)]
struct Counts {
    taken: AtomicU64,
    cut: AtomicU64,
    /// Those that are open, by number: both sides of each.
    open: Mutex<HashMap<u64, [TcpStream; 2]>>,
}

impl Counts {
    fn open(&self) -> MutexGuard<'_, HashMap<u64, [TcpStream; 2]>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A connection that is forgotten when both ways have ended.
struct Connection {
    counts: Arc<Counts>,
    number: u64,
}

impl Drop for Connection {
    fn drop(&mut self) {
        self.counts.open().remove(&self.number);
    }
}

impl Proxy {
    /// Starts one before a server.
    pub fn start(server: u16) -> Proxy {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = listener.local_addr().expect("its address").port();
        let trouble = Arc::new(Mutex::new(Trouble::None));
        let counts = Arc::<Counts>::default();
        let (troubles, all) = (Arc::clone(&trouble), Arc::clone(&counts));
        std::thread::spawn(move || {
            for client in listener.incoming() {
                let Ok(client) = client else { return };
                let trouble = *troubles.lock().unwrap_or_else(PoisonError::into_inner);
                if trouble == Trouble::Refuse {
                    continue;
                }
                let Ok(server) = TcpStream::connect(("127.0.0.1", server)) else { continue };
                pass(client, server, trouble, &all);
            }
        });
        Proxy { port, trouble, counts }
    }

    /// How many connections were taken.
    pub fn connections(&self) -> u64 {
        self.counts.taken.load(Ordering::SeqCst)
    }

    /// Makes trouble for connections from now on.
    pub fn make(&self, trouble: Trouble) {
        *self.trouble.lock().unwrap_or_else(PoisonError::into_inner) = trouble;
    }

    /// Cuts all connections now.
    pub fn cut_all(&self) {
        for [client, server] in self.counts.open().values() {
            let _ = (client.shutdown(Shutdown::Both), server.shutdown(Shutdown::Both));
        }
    }

    /// How often a connection was cut.
    pub fn cuts(&self) -> u64 {
        self.counts.cut.load(Ordering::SeqCst)
    }
}

fn pass(client: TcpStream, server: TcpStream, trouble: Trouble, counts: &Arc<Counts>) {
    let copy = |stream: &TcpStream| stream.try_clone().expect("a socket");
    let _ = (client.set_nodelay(true), server.set_nodelay(true));
    let number = counts.taken.fetch_add(1, Ordering::SeqCst);
    counts.open().insert(number, [copy(&client), copy(&server)]);
    let connection = Arc::new(Connection { counts: Arc::clone(counts), number });
    let (mut requests, mut answers) = (Way::default(), Way::default());
    match trouble {
        Trouble::CutRequests(after) => requests.most = after,
        Trouble::CutAnswers(after) => answers.most = after,
        Trouble::Stall(after) => (answers.most, answers.stalls) = (after, true),
        Trouble::Delay(millis) => {
            requests.delay = Duration::from_millis(millis);
            answers.delay = requests.delay;
        }
        Trouble::None | Trouble::Refuse => {}
    }
    let ways = [(copy(&client), copy(&server), requests), (server, client, answers)];
    for (from, to, way) in ways {
        let connection = Arc::clone(&connection);
        std::thread::spawn(move || one_way(from, to, way, &connection));
    }
}

/// What becomes of the bytes of one side.
#[derive(Clone, Copy)]
struct Way {
    most: u64,
    stalls: bool,
    delay: Duration,
}

impl Default for Way {
    fn default() -> Self {
        Way { most: u64::MAX, stalls: false, delay: Duration::ZERO }
    }
}

fn one_way(mut from: TcpStream, mut to: TcpStream, way: Way, connection: &Connection) {
    let mut left = way.most;
    let mut piece = vec![0; 64 * 1024];
    loop {
        let want = usize::try_from(left).unwrap_or(piece.len()).min(piece.len());
        if want == 0 && !way.stalls {
            connection.counts.cut.fetch_add(1, Ordering::SeqCst);
            let _ = (from.shutdown(Shutdown::Both), to.shutdown(Shutdown::Both));
            return;
        }
        // In silence it is still read, until one of them goes.
        let room = if want == 0 { piece.len() } else { want };
        match from.read(&mut piece[..room]) {
            Ok(0) | Err(_) => break,
            Ok(_) if want == 0 => {}
            Ok(count) => {
                if !way.delay.is_zero() {
                    std::thread::sleep(way.delay);
                }
                if to.write_all(&piece[..count]).is_err() {
                    break;
                }
                left -= count as u64;
            }
        }
    }
    let _ = to.shutdown(Shutdown::Write);
}
