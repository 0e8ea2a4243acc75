//! A proxy between a client and a server that makes trouble on the way.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
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
}

/// A proxy on loopback.
pub struct Proxy {
    /// On loopback.
    pub port: u16,
    trouble: Arc<Mutex<Trouble>>,
    cut: Arc<AtomicU64>,
    open: Arc<Mutex<Vec<TcpStream>>>,
}

impl Proxy {
    /// Starts one before a server.
    pub fn start(server: u16) -> Proxy {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = listener.local_addr().expect("its address").port();
        let trouble = Arc::new(Mutex::new(Trouble::None));
        let (cut, open): (Arc<AtomicU64>, Arc<Mutex<Vec<TcpStream>>>) = Default::default();
        let (troubles, cuts, all) = (Arc::clone(&trouble), Arc::clone(&cut), Arc::clone(&open));
        std::thread::spawn(move || {
            for client in listener.incoming() {
                let Ok(client) = client else { return };
                let trouble = *troubles.lock().unwrap_or_else(PoisonError::into_inner);
                if trouble == Trouble::Refuse {
                    continue;
                }
                let Ok(server) = TcpStream::connect(("127.0.0.1", server)) else { continue };
                pass(client, server, trouble, &cuts, &all);
            }
        });
        Proxy { port, trouble, cut, open }
    }

    /// Makes trouble for connections from now on.
    pub fn make(&self, trouble: Trouble) {
        *self.trouble.lock().unwrap_or_else(PoisonError::into_inner) = trouble;
    }

    /// Cuts all connections now.
    pub fn cut_all(&self) {
        for stream in self.open.lock().unwrap_or_else(PoisonError::into_inner).drain(..) {
            let _ = stream.shutdown(Shutdown::Both);
        }
    }

    /// How often a connection was cut.
    pub fn cuts(&self) -> u64 {
        self.cut.load(Ordering::SeqCst)
    }
}

fn pass(
    client: TcpStream,
    server: TcpStream,
    trouble: Trouble,
    cuts: &Arc<AtomicU64>,
    open: &Arc<Mutex<Vec<TcpStream>>>,
) {
    let copy = |stream: &TcpStream| stream.try_clone().expect("a socket");
    let _ = (client.set_nodelay(true), server.set_nodelay(true));
    open.lock().unwrap_or_else(PoisonError::into_inner).extend([copy(&client), copy(&server)]);
    let bound = |cut: Option<u64>| cut.unwrap_or(u64::MAX);
    let requests = match trouble {
        Trouble::CutRequests(after) => Some(after),
        _ => None,
    };
    let answers = match trouble {
        Trouble::CutAnswers(after) => Some(after),
        _ => None,
    };
    let delay = match trouble {
        Trouble::Delay(millis) => Duration::from_millis(millis),
        _ => Duration::ZERO,
    };
    let ways = [(copy(&client), copy(&server), bound(requests)), (server, client, bound(answers))];
    for (from, to, most) in ways {
        let cuts = Arc::clone(cuts);
        std::thread::spawn(move || one_way(from, to, most, delay, &cuts));
    }
}

fn one_way(mut from: TcpStream, mut to: TcpStream, most: u64, delay: Duration, cuts: &AtomicU64) {
    let mut left = most;
    let mut piece = vec![0; 64 * 1024];
    loop {
        let want = usize::try_from(left).unwrap_or(piece.len()).min(piece.len());
        if want == 0 {
            cuts.fetch_add(1, Ordering::SeqCst);
            let _ = (from.shutdown(Shutdown::Both), to.shutdown(Shutdown::Both));
            return;
        }
        match from.read(&mut piece[..want]) {
            Ok(0) | Err(_) => break,
            Ok(count) => {
                if !delay.is_zero() {
                    std::thread::sleep(delay);
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
