//! The walls around a child. What a hostile file takes over can read that one file, write into one folder, and use the
//! memory and the time it was given: no other file, no network, no other program, no rights of the porter's.
//!
//! Everything is asked of the kernel and nothing is assumed of it: [`Parts`] tells which walls stand, and
//! `deft-porter check` shows it with what a child that tries gets.

use super::{Order, Work};
use landlock::{
    ABI, Access, AccessFs, AccessNet, CompatLevel, Compatible, PathBeneath, Ruleset, RulesetAttr,
    RulesetCreatedAttr, RulesetStatus, Scope, path_beneath_rules,
};
use rustix::process::{Resource, Rlimit, setrlimit};
use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::os::fd::{FromRawFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};

/// How much nicer than the porter a child is to the machine.
const NICE: i32 = 5;
/// When memory runs out, a child goes before the porter.
const OOM_SCORE: &str = "600";
const MAX_FILES: u64 = 256;

/// What a child may still do.
pub struct Walls {
    bounds: super::Bounds,
    folder: PathBuf,
    read: Vec<PathBuf>,
    network: bool,
    /// The source is a folder.
    in_folder: bool,
    /// What lies in it is looked for by its names.
    listed: bool,
}

/// Which walls stand.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Parts {
    pub limits: bool,
    pub no_capabilities: bool,
    /// Files outside its folder.
    pub files: Strength,
    pub system_calls: bool,
}

impl Parts {
    /// For people.
    pub fn words(&self) -> String {
        let files = match self.files {
            Strength::Full => "files (Landlock)",
            Strength::Partial => "files (Landlock, in part: the kernel is older)",
            Strength::None => "NO wall around files (the kernel has no Landlock)",
        };
        let word = |there: bool, what: &str| if there { what.to_owned() } else { format!("NO {what}") };
        [
            files.to_owned(),
            word(self.system_calls, "system calls (seccomp)"),
            word(self.no_capabilities, "dropped capabilities"),
            word(self.limits, "limits"),
        ]
        .join(", ")
    }
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Strength {
    Full,
    Partial,
    #[default]
    None,
}

impl Walls {
    pub fn of(order: &Order) -> Walls {
        let mut read = Vec::new();
        let mut network = false;
        if let Work::Hear { outputs, .. } = &order.work {
            for t in outputs.iter().filter_map(|o| o.recipe.transcript.as_ref()) {
                read.extend(t.hearing.model.clone());
                for service in t.hearing.service.iter().chain(&t.summary) {
                    network = true;
                    read.extend(service.certificates.clone());
                }
            }
            // The time zone, for the day on a page; names of hosts, where a service is asked.
            read.extend(["/etc/localtime", "/usr/share/zoneinfo"].map(PathBuf::from));
            if network {
                read.extend(
                    [
                        "/etc/resolv.conf",
                        "/etc/hosts",
                        "/etc/nsswitch.conf",
                        "/etc/host.conf",
                        "/run/systemd/resolve",
                    ]
                    .map(PathBuf::from),
                );
                // The system's own libraries, which look names up.
                read.extend(["/lib", "/lib64", "/usr/lib"].map(PathBuf::from));
            }
        }
        let in_folder = order.frames.is_some() || order.beside.is_some() || order.joined.is_some();
        let listed = order.beside.as_ref().is_some_and(|b| b.near);
        Walls { bounds: order.bounds, folder: order.folder.clone(), read, network, in_folder, listed }
    }
}

/// Closes every file that came along beside the three standard ones.
#[allow(unsafe_code)]
pub fn close_inherited() {
    let numbers: Vec<i32> = std::fs::read_dir("/proc/self/fd")
        .map(|d| d.flatten().filter_map(|e| e.file_name().to_str()?.parse().ok()).collect())
        .unwrap_or_default();
    for n in numbers.into_iter().filter(|n| *n > 2) {
        // SAFETY: this runs at the start of the child, on its only thread, before it has opened anything that lives
        // on: whatever is open beside the three standard files was inherited and has no owner in this process, or one
        // that belongs to what it is a copy of and is never come back to. The number under which the list itself was
        // read is closed already, and is not closed again.
        let file = unsafe { OwnedFd::from_raw_fd(n) };
        match rustix::io::fcntl_getfd(&file) {
            Ok(_) => drop(file),
            Err(_) => std::mem::forget(file),
        }
    }
}

/// Puts every wall up that this kernel has.
pub fn enter(walls: &Walls) -> Parts {
    let mut parts = Parts { limits: limits(walls), ..Parts::default() };
    let _ = std::fs::write("/proc/self/oom_score_adj", OOM_SCORE);
    let _ = rustix::process::nice(NICE);
    // A porter that dies takes its children along, also one that was stopped from saying so.
    let _ = rustix::process::set_parent_process_death_signal(Some(rustix::process::Signal::KILL));
    let _ = rustix::thread::set_no_new_privs(true);
    parts.files = files(walls).unwrap_or_default();
    parts.no_capabilities = drop_capabilities();
    parts.system_calls = system_calls(walls.network).is_some();
    parts
}

fn limits(walls: &Walls) -> bool {
    let set = |what, n: u64| setrlimit(what, Rlimit { current: Some(n), maximum: Some(n) }).is_ok();
    // A crash is reported by the porter; a core file of this size helps nobody.
    let _ = set(Resource::Core, 0);
    let _ = set(Resource::Nofile, MAX_FILES);
    set(Resource::Data, walls.bounds.memory)
        & set(Resource::Fsize, walls.bounds.file)
        & set(Resource::Cpu, walls.bounds.seconds)
}

fn drop_capabilities() -> bool {
    use rustix::thread::{CapabilitySet, CapabilitySets, set_capabilities};
    let none = CapabilitySet::empty();
    set_capabilities(None, CapabilitySets { effective: none, permitted: none, inheritable: none }).is_ok()
}

/// Landlock.
fn files(walls: &Walls) -> Option<Strength> {
    let abi = ABI::V6;
    let mut rules = Ruleset::default()
        .set_compatibility(CompatLevel::BestEffort)
        .handle_access(AccessFs::from_all(abi))
        .ok()?
        .scope(Scope::from_all(abi))
        .ok()?;
    if !walls.network {
        rules = rules.handle_access(AccessNet::from_all(abi)).ok()?;
    }
    let folder: &Path = &walls.folder;
    let inside = AccessFs::from_all(abi) & !(AccessFs::Execute | AccessFs::MakeSock | AccessFs::MakeFifo);
    let there = walls.read.iter().filter(|p| p.exists());
    // The folder that came along is read from, by names.
    let how = if walls.listed { AccessFs::ReadFile | AccessFs::ReadDir } else { AccessFs::ReadFile.into() };
    let source =
        walls.in_folder.then(|| Ok::<_, landlock::RulesetError>(PathBeneath::new(std::io::stdin(), how)));
    let status = rules
        .create()
        .ok()?
        .add_rules(path_beneath_rules([folder].iter().filter(|p| p.is_dir()), inside))
        .ok()?
        .add_rules(path_beneath_rules(there, AccessFs::from_read(abi) & !AccessFs::Execute))
        .ok()?
        .add_rules(source)
        .ok()?
        .restrict_self()
        .ok()?;
    Some(match status.ruleset {
        RulesetStatus::FullyEnforced => Strength::Full,
        RulesetStatus::PartiallyEnforced => Strength::Partial,
        RulesetStatus::NotEnforced => Strength::None,
    })
}

/// Calls that nothing which reads or makes media needs.
const NEVER: &[i64] = &[
    libc::SYS_execve,
    libc::SYS_execveat,
    libc::SYS_ptrace,
    libc::SYS_process_vm_readv,
    libc::SYS_process_vm_writev,
    libc::SYS_kill,
    libc::SYS_pidfd_open,
    libc::SYS_pidfd_getfd,
    libc::SYS_pidfd_send_signal,
    libc::SYS_mount,
    libc::SYS_umount2,
    libc::SYS_pivot_root,
    libc::SYS_chroot,
    libc::SYS_move_mount,
    libc::SYS_fsopen,
    libc::SYS_open_tree,
    libc::SYS_unshare,
    libc::SYS_setns,
    libc::SYS_bpf,
    libc::SYS_perf_event_open,
    libc::SYS_userfaultfd,
    libc::SYS_io_uring_setup,
    libc::SYS_keyctl,
    libc::SYS_add_key,
    libc::SYS_request_key,
    libc::SYS_init_module,
    libc::SYS_finit_module,
    libc::SYS_delete_module,
    libc::SYS_kexec_load,
    libc::SYS_open_by_handle_at,
    libc::SYS_setuid,
    libc::SYS_setgid,
    libc::SYS_setresuid,
    libc::SYS_setresgid,
    libc::SYS_personality,
    libc::SYS_reboot,
    libc::SYS_swapon,
    libc::SYS_settimeofday,
    libc::SYS_clock_settime,
    libc::SYS_sethostname,
    libc::SYS_mknodat,
    libc::SYS_prlimit64,
];
const NETWORK: &[i64] = &[
    libc::SYS_socket,
    libc::SYS_socketpair,
    libc::SYS_connect,
    libc::SYS_bind,
    libc::SYS_listen,
    libc::SYS_accept,
    libc::SYS_accept4,
];
#[cfg(target_arch = "x86_64")]
const FORKS: &[i64] = &[libc::SYS_fork, libc::SYS_vfork];
#[cfg(not(target_arch = "x86_64"))]
const FORKS: &[i64] = &[];

/// Without network, as most children are: made once, before there are children.
static FILTER: OnceLock<Option<BpfProgram>> = OnceLock::new();
/// This process, and so its copies, has the filter that all of them have.
static PREPARED: AtomicBool = AtomicBool::new(false);

/// Makes ready what every child needs.
pub fn prepare() {
    FILTER.get_or_init(|| filter(false));
    let _ = rustix::thread::set_no_new_privs(true);
    PREPARED.store(no_new_clone().is_some(), Ordering::Relaxed);
}

/// Seccomp: calls above are refused; a clone makes threads only.
fn system_calls(network: bool) -> Option<()> {
    if !PREPARED.load(Ordering::Relaxed) {
        no_new_clone()?;
    }
    let own;
    let all = if network {
        own = filter(true);
        &own
    } else {
        FILTER.get_or_init(|| filter(false))
    };
    seccompiler::apply_filter(all.as_ref()?).ok()
}

/// Its flags lie in memory, where no filter can look: the C library goes back to clone when it is not there.
fn no_new_clone() -> Option<()> {
    let rules = BTreeMap::from([(libc::SYS_clone3, Vec::new())]);
    seccompiler::apply_filter(&refusing(rules, libc::ENOSYS)?).ok()
}

fn refusing(rules: BTreeMap<i64, Vec<SeccompRule>>, answer: i32) -> Option<BpfProgram> {
    let arch = std::env::consts::ARCH.try_into().ok()?;
    let refused = SeccompAction::Errno(answer as u32);
    SeccompFilter::new(rules, SeccompAction::Allow, refused, arch).ok()?.try_into().ok()
}

fn filter(network: bool) -> Option<BpfProgram> {
    let mut rules: BTreeMap<i64, Vec<SeccompRule>> = BTreeMap::new();
    let closed = NEVER.iter().chain(FORKS).chain(if network { &[] } else { NETWORK });
    rules.extend(closed.map(|n| (*n, Vec::new())));
    // The C library asks for its own limits with this call, and only setting them is refused.
    let sets = SeccompCondition::new(2, SeccompCmpArgLen::Qword, SeccompCmpOp::Ne, 0).ok()?;
    rules.insert(libc::SYS_prlimit64, vec![SeccompRule::new(vec![sets]).ok()?]);
    let thread = libc::CLONE_THREAD as u64;
    let no_thread =
        SeccompCondition::new(0, SeccompCmpArgLen::Qword, SeccompCmpOp::MaskedEq(thread), 0).ok()?;
    rules.insert(libc::SYS_clone, vec![SeccompRule::new(vec![no_thread]).ok()?]);
    refusing(rules, libc::EPERM)
}

/// Tries what a child must not be able to do; true where it could.
pub fn try_all() -> Vec<(String, bool)> {
    use std::process::Command;
    let mut tried = Vec::new();
    let mut note = |what: &str, could: bool| tried.push((what.to_owned(), could));
    note("read the system's files", std::fs::read("/etc/passwd").is_ok());
    note("list the root folder", std::fs::read_dir("/").is_ok());
    note("write into /tmp", std::fs::write("/tmp/deft-porter-child", b"x").is_ok());
    note("read the porter's memory", std::fs::File::open(format!("/proc/{}/mem", parent())).is_ok());
    note("read the porter's environment", std::fs::read(format!("/proc/{}/environ", parent())).is_ok());
    note("open a network connection", std::net::UdpSocket::bind("127.0.0.1:0").is_ok());
    note("open a local socket", std::os::unix::net::UnixDatagram::unbound().is_ok());
    note("start a program", Command::new("/bin/true").status().is_ok());
    note("signal the porter", may_signal_parent());
    note("see an environment", std::env::vars_os().next().is_some());
    note("have capabilities", has_capabilities());
    note("raise its limits", setrlimit(Resource::Core, Rlimit { current: None, maximum: None }).is_ok());
    note("inherit open files", open_files() > 0);
    tried
}

fn parent() -> i32 {
    rustix::process::getppid().map_or(0, |p| p.as_raw_nonzero().get())
}

fn may_signal_parent() -> bool {
    rustix::process::getppid().is_some_and(|p| rustix::process::test_kill_process(p).is_ok())
}

fn has_capabilities() -> bool {
    rustix::thread::capabilities(None).is_ok_and(|c| !c.effective.is_empty() || !c.permitted.is_empty())
}

/// Files beside the three standard ones; the source is not handed on for this work.
#[allow(unsafe_code)]
fn open_files() -> usize {
    (3..MAX_FILES as i32)
        .filter(|n| {
            // SAFETY: the number is only asked about; a number that names nothing gives an error.
            let file = unsafe { std::os::fd::BorrowedFd::borrow_raw(*n) };
            rustix::io::fcntl_getfd(file).is_ok()
        })
        .count()
}
