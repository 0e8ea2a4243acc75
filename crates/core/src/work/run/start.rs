//! Starting a program without copying the service.
//!
//! A program must not outlive the service by a moment: else the next attempt would run beside
//! it. Only the new process itself can ask the kernel for that, between its beginning and the
//! program; what the standard library offers for it copies the page tables of the whole
//! service, which for a small program is most of the work. Here the new process borrows the
//! memory of the service until the program begins, as `posix_spawn` does it.

use std::collections::BTreeMap;
use std::ffi::{CString, OsString, c_char, c_int, c_void};
use std::io;
use std::os::fd::{AsRawFd, OwnedFd, RawFd};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::process::ExitStatusExt;
use std::path::Path;
use std::process::ExitStatus;
use std::ptr;

use rustix::fs::{OFlags, fcntl_getfl, fcntl_setfl};
use rustix::process::{
    Pid, PidfdFlags, Signal, WaitOptions, kill_process_group, pidfd_open, waitpid,
};

/// Bytes of the stack on which the new process prepares itself.
const STACK: usize = 256 * 1024;

/// Bytes below it that nobody may touch: one page, also where pages are large.
const GUARD: usize = 64 * 1024;

/// What is started.
pub(super) struct Start<'a> {
    pub program: &'a Path,
    pub args: &'a [String],
    /// Its whole environment.
    pub environment: BTreeMap<OsString, OsString>,
    pub folder: &'a Path,
    /// Whether it gets something to read; else its input is empty.
    pub reads: bool,
}

/// A program that runs, in a process group of its own. It is killed when it is dropped before
/// its end.
pub(super) struct Program {
    pid: Pid,
    ended: Option<ExitStatus>,
    /// Becomes readable when it ends; none where the kernel has no such thing.
    pub end: Option<OwnedFd>,
    /// What it prints, on both ways in the order in which it comes.
    pub printed: OwnedFd,
    /// Where its input is written; writing does not wait.
    pub input: Option<OwnedFd>,
}

impl Start<'_> {
    /// Starts it; it ends with the thread that calls this, at the latest.
    ///
    /// # Errors
    /// What the kernel says where it cannot be started, and names with a NUL in them.
    pub fn start(&self) -> io::Result<Program> {
        let folder = CString::new(self.folder.as_os_str().as_bytes())?;
        let words = self.words()?;
        let variables = self.variables()?;
        let (printed, prints) = io::pipe()?;
        let (reads, input) = match self.reads {
            true => {
                let (reads, input) = io::pipe()?;
                let input = OwnedFd::from(input);
                fcntl_setfl(&input, fcntl_getfl(&input)? | OFlags::NONBLOCK)?;
                (OwnedFd::from(reads), Some(input))
            }
            false => (std::fs::File::open("/dev/null")?.into(), None),
        };
        let (words, variables) = (pointers(&words), pointers(&variables));
        let mut new = New {
            words: words.as_ptr(),
            variables: variables.as_ptr(),
            folder: folder.as_ptr(),
            descriptors: [reads.as_raw_fd(), prints.as_raw_fd(), prints.as_raw_fd()],
            service: std::process::id().cast_signed(),
            fault: 0,
        };
        let pid = new.begin()?;
        let end = pidfd_open(pid, PidfdFlags::empty()).ok();
        Ok(Program { pid, ended: None, end, printed: printed.into(), input })
    }

    fn words(&self) -> io::Result<Vec<CString>> {
        let mut words = vec![CString::new(self.program.as_os_str().as_bytes())?];
        for arg in self.args {
            words.push(CString::new(arg.as_bytes())?);
        }
        Ok(words)
    }

    fn variables(&self) -> io::Result<Vec<CString>> {
        let variables = self.environment.iter().map(|(name, value)| {
            let mut whole = name.clone();
            whole.push("=");
            whole.push(value);
            Ok(CString::new(whole.into_vec())?)
        });
        variables.collect()
    }
}

/// The list as C has it, with its end; it is good for as long as the words are.
fn pointers(words: &[CString]) -> Vec<*const c_char> {
    words.iter().map(|word| word.as_ptr()).chain([ptr::null()]).collect()
}

/// What the new process needs until its program begins: pointers into what the thread that
/// begins it holds, which sleeps until then.
struct New {
    words: *const *const c_char,
    variables: *const *const c_char,
    folder: *const c_char,
    descriptors: [RawFd; 3],
    service: libc::pid_t,
    /// Why the program does not begin, as the number of an error; 0 where it does.
    fault: c_int,
}

impl New {
    fn begin(&mut self) -> io::Result<Pid> {
        let stack = Stack::new()?;
        let flags = libc::CLONE_VM | libc::CLONE_VFORK | libc::SIGCHLD;
        // SAFETY: the signals are blocked, so that no handler of the service runs in the new
        // process. That shares our memory, but has a stack of its own, and this thread
        // sleeps until the program begins or the process has ended (CLONE_VFORK): what it
        // points to stays as it is, and nobody else has the stack.
        let pid = unsafe {
            let mut all: libc::sigset_t = std::mem::zeroed();
            let mut before: libc::sigset_t = std::mem::zeroed();
            libc::sigfillset(&raw mut all);
            libc::pthread_sigmask(libc::SIG_BLOCK, &raw const all, &raw mut before);
            let pid = libc::clone(in_new_process, stack.top(), flags, (&raw mut *self).cast());
            let error = io::Error::last_os_error();
            libc::pthread_sigmask(libc::SIG_SETMASK, &raw const before, ptr::null_mut());
            if pid < 0 { Err(error) } else { Ok(pid) }
        }?;
        let pid = Pid::from_raw(pid).ok_or(io::ErrorKind::NotFound)?;
        if self.fault == 0 {
            return Ok(pid);
        }
        let _ = waitpid(Some(pid), WaitOptions::empty());
        Err(io::Error::from_raw_os_error(self.fault))
    }
}

/// Prepares the new process and begins the program; comes back only if that fails. Everything
/// in it is a plain system call: the memory is that of the service.
extern "C" fn in_new_process(new: *mut c_void) -> c_int {
    let new: *mut New = new.cast();
    // SAFETY: it is what `begin` gave, which waits.
    unsafe {
        prepare_and_begin(&*new);
        (*new).fault = *libc::__errno_location();
        libc::_exit(127);
    }
}

/// Gives back when something failed, with errno set.
///
/// # Safety
/// To be called in a process that ends with it, with all signals blocked.
unsafe fn prepare_and_begin(new: &New) {
    // SAFETY: plain system calls with values that live as long as they do.
    unsafe {
        for signal in 1..=libc::SIGRTMAX() {
            // What the service ignores stays ignored, but for what Rust has set itself.
            let mut action: libc::sigaction = std::mem::zeroed();
            let known = libc::sigaction(signal, ptr::null(), &raw mut action) == 0;
            let ignored = action.sa_sigaction == libc::SIG_IGN && signal != libc::SIGPIPE;
            if known && !ignored && action.sa_sigaction != libc::SIG_DFL {
                libc::signal(signal, libc::SIG_DFL);
            }
        }
        if libc::setpgid(0, 0) != 0 || libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL) != 0 {
            return;
        }
        // The service may have been killed just before that: then no signal comes.
        if libc::getppid() != new.service {
            *libc::__errno_location() = libc::ESRCH;
            return;
        }
        for (to, from) in (0..).zip(new.descriptors) {
            if libc::dup2(from, to) < 0 {
                return;
            }
        }
        if libc::chdir(new.folder) != 0 {
            return;
        }
        let mut none: libc::sigset_t = std::mem::zeroed();
        libc::sigemptyset(&raw mut none);
        libc::pthread_sigmask(libc::SIG_SETMASK, &raw const none, ptr::null_mut());
        libc::execvpe(*new.words, new.words, new.variables);
    }
}

/// The stack of the new process.
struct Stack(*mut c_void);

impl Stack {
    fn new() -> io::Result<Self> {
        let flags = libc::MAP_PRIVATE | libc::MAP_ANONYMOUS | libc::MAP_STACK;
        // SAFETY: new memory of our own, whose lowest part is then closed.
        unsafe {
            let whole = STACK + GUARD;
            let open = libc::PROT_READ | libc::PROT_WRITE;
            let at = libc::mmap(ptr::null_mut(), whole, open, flags, -1, 0);
            if at == libc::MAP_FAILED {
                return Err(io::Error::last_os_error());
            }
            let stack = Stack(at);
            if libc::mprotect(at, GUARD, libc::PROT_NONE) != 0 {
                return Err(io::Error::last_os_error());
            }
            Ok(stack)
        }
    }

    /// Where it begins: it grows downwards.
    fn top(&self) -> *mut c_void {
        // SAFETY: the end of the memory that `new` has mapped.
        unsafe { self.0.add(STACK + GUARD) }
    }
}

impl Drop for Stack {
    fn drop(&mut self) {
        // SAFETY: mapped by `new`, and no process uses it any more.
        unsafe { libc::munmap(self.0, STACK + GUARD) };
    }
}

impl Program {
    /// How it ended, if it has.
    pub fn has_ended(&mut self) -> io::Result<Option<ExitStatus>> {
        if self.ended.is_none() {
            self.wait(WaitOptions::NOHANG)?;
        }
        Ok(self.ended)
    }

    /// Signals it and everything that it has started.
    pub fn signal(&self, signal: Signal) {
        // Until it has been waited for, its number is not used again; that it has ended
        // meanwhile is no fault.
        if self.ended.is_none() {
            let _ = kill_process_group(self.pid, signal);
        }
    }

    /// Kills it and everything that it has started.
    pub fn kill(&mut self) -> io::Result<()> {
        self.signal(Signal::KILL);
        self.wait(WaitOptions::empty())
    }

    fn wait(&mut self, options: WaitOptions) -> io::Result<()> {
        let status = rustix::io::retry_on_intr(|| waitpid(Some(self.pid), options))?;
        self.ended = status.map(|(_, status)| ExitStatus::from_raw(status.as_raw()));
        Ok(())
    }
}

impl Drop for Program {
    fn drop(&mut self) {
        if self.ended.is_none() {
            let _ = self.kill();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn start(program: &str, args: &[&str], folder: &str) -> io::Result<Program> {
        let args: Vec<String> = args.iter().map(|&arg| arg.to_owned()).collect();
        let environment = [("PATH", "/usr/bin:/bin"), ("TIDE", "high = 3.2")];
        let environment = environment.map(|(name, value)| (name.into(), value.into())).into();
        let folder = Path::new(folder);
        Start { program: Path::new(program), args: &args, environment, folder, reads: false }
            .start()
    }

    fn printed(program: &mut Program) -> String {
        let mut said = String::new();
        let mut pipe = std::fs::File::from(program.printed.try_clone().unwrap());
        io::Read::read_to_string(&mut pipe, &mut said).unwrap();
        program.wait(WaitOptions::empty()).unwrap();
        said
    }

    #[test]
    fn a_program_has_what_it_was_given_and_no_more() {
        let open = tempfile::Builder::new().prefix("open-in-the-service").tempfile().unwrap();
        let script = "pwd; env | sort | grep -v '^\\(_\\|PWD\\|SHLVL\\|OLDPWD\\)='; echo \"$1\" >&2; ls -l /proc/self/fd | grep -c open-in-the-service; grep SigBlk /proc/self/status";
        let mut program = start("sh", &["-c", script, "sh", "a word"], "/usr").unwrap();
        let wanted =
            "/usr\nPATH=/usr/bin:/bin\nTIDE=high = 3.2\na word\n0\nSigBlk:\t0000000000000000\n";
        assert_eq!(printed(&mut program), wanted);
        drop(open);
        assert!(program.has_ended().unwrap().unwrap().success());
    }

    #[test]
    fn what_cannot_be_started_says_why() {
        let missing = start("/usr/bin/no-such-program", &[], "/").err().unwrap();
        assert_eq!(missing.raw_os_error(), Some(libc::ENOENT));
        let folder = start("true", &[], "/no/such/folder").err().unwrap();
        assert_eq!(folder.raw_os_error(), Some(libc::ENOENT));
        let denied = start("/etc/passwd", &[], "/").err().unwrap();
        assert_eq!(denied.raw_os_error(), Some(libc::EACCES));
        assert_eq!(
            start("true", &["a\0b"], "/").err().unwrap().kind(),
            io::ErrorKind::InvalidInput
        );
        let children = std::fs::read_to_string("/proc/thread-self/children").unwrap();
        assert_eq!(children.trim(), "", "none is left behind");
    }

    #[test]
    fn many_at_once_from_several_threads_all_end() {
        std::thread::scope(|scope| {
            for thread in 0..8 {
                scope.spawn(move || {
                    for number in 0..25 {
                        let status = (thread * 25 + number) % 100;
                        let line = format!("exit {status}");
                        let mut program = start("sh", &["-c", &line], "/").unwrap();
                        assert_eq!(printed(&mut program), "");
                        let ended = program.has_ended().unwrap().unwrap();
                        assert_eq!(ended.code(), Some(status));
                    }
                });
            }
        });
    }

    #[test]
    fn a_program_that_is_dropped_ends_with_all_it_started() {
        let mut program = start("sh", &["-c", "sleep 1000 & echo $!; wait"], "/").unwrap();
        let mut said = [0; 64];
        let count = rustix::io::read(&program.printed, &mut said[..]).unwrap();
        let sleeper: u32 = std::str::from_utf8(&said[..count]).unwrap().trim().parse().unwrap();
        assert!(program.has_ended().unwrap().is_none());
        let state = || std::fs::read_to_string(format!("/proc/{sleeper}/stat")).unwrap_or_default();
        let wait = |sleeps: bool| {
            let begun = std::time::Instant::now();
            while state().contains("(sleep) S") != sleeps {
                assert!(begun.elapsed().as_secs() < 20, "{}", state());
                std::thread::yield_now();
            }
        };
        wait(true);
        drop(program);
        // It is a zombie until whoever adopted it has waited for it.
        wait(false);
    }
}
