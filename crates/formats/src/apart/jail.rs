//! What a process that reads a file gives up first: memory and time beyond a limit, new files beyond a size, other
//! files (landlock), the network and other programs (seccomp).
//!
//! Kernels without landlock (before 5.13) or seccomp still get the limits of memory, time and files.

use std::path::{Path, PathBuf};

use landlock::{
    ABI, Access, AccessFs, AccessNet, Ruleset, RulesetAttr, RulesetCreatedAttr, path_beneath_rules,
};
use nix::sys::resource::{Resource, setrlimit};
use seccompiler::{BpfProgram, SeccompAction, SeccompFilter};

/// What one file may cost.
#[derive(Debug, Clone, Copy)]
pub(super) struct Limits {
    /// address space, bytes
    pub memory_bytes: u64,
    /// processor time, seconds
    pub seconds: u64,
    /// largest file that is written, bytes
    pub written_bytes: u64,
}

/// What a file needs besides itself.
#[derive(Debug, Clone, Default)]
pub(super) struct Reach {
    /// directories that are read
    pub read: Vec<PathBuf>,
    /// the directory that is written to
    pub written: Option<PathBuf>,
    /// whether addresses are opened
    pub network: bool,
}

/// Files of the libraries: definitions of CRS, and what is loaded late.
const LIBRARIES: [&str; 5] = ["/usr/share", "/usr/local/share", "/usr/lib", "/lib", "/lib64"];
/// Files that are needed to open an address.
const NETWORK: [&str; 2] = ["/etc", "/run/systemd/resolve"];
/// Environment variables that say where definitions of CRS lie.
pub(super) const DEFINITIONS: [&str; 3] = ["PROJ_LIB", "PROJ_DATA", "GDAL_DATA"];

/// Permanently gives up what is not needed. Called before the file is opened, and before there is another thread.
///
/// # Errors
/// Where a limit cannot be set; a kernel without landlock or seccomp is no error.
pub(super) fn enter(limits: Limits, reach: &Reach) -> std::io::Result<()> {
    for (what, most) in [
        (Resource::RLIMIT_AS, limits.memory_bytes),
        (Resource::RLIMIT_CPU, limits.seconds),
        (Resource::RLIMIT_FSIZE, limits.written_bytes),
        (Resource::RLIMIT_CORE, 0),
        (Resource::RLIMIT_NOFILE, 64),
    ] {
        setrlimit(what, most, most)?;
    }
    let told = |e: &dyn std::fmt::Display| std::io::Error::other(e.to_string());
    restrict_files(reach).map_err(|e| told(&e))?;
    refuse_calls(reach.network).map_err(|e| told(&e))
}

fn restrict_files(reach: &Reach) -> Result<(), landlock::RulesetError> {
    // What newer kernels know besides is refused on these too.
    let abi = ABI::V4;
    let mut ruleset = Ruleset::default().handle_access(AccessFs::from_all(abi))?;
    if !reach.network {
        ruleset = ruleset.handle_access(AccessNet::from_all(abi))?;
    }
    let definitions = DEFINITIONS.iter().filter_map(std::env::var_os).map(PathBuf::from);
    let network = NETWORK.iter().filter(|_| reach.network).map(PathBuf::from);
    let read =
        LIBRARIES.iter().map(PathBuf::from).chain(definitions).chain(network).chain(reach.read.clone());
    let there: Vec<PathBuf> = read.filter(|p| p.exists()).collect();
    let written: Vec<&Path> = reach.written.iter().map(PathBuf::as_path).collect();
    ruleset
        .create()?
        .add_rules(path_beneath_rules(there, AccessFs::from_read(abi)))?
        .add_rules(path_beneath_rules(written, AccessFs::from_all(abi)))?
        .restrict_self()?;
    Ok(())
}

/// System calls that a reader has no use for: addresses, other programs, other processes.
fn refuse_calls(network: bool) -> Result<(), seccompiler::Error> {
    let mut refused = vec![
        libc::SYS_execve,
        libc::SYS_execveat,
        libc::SYS_ptrace,
        libc::SYS_process_vm_readv,
        libc::SYS_process_vm_writev,
        libc::SYS_io_uring_setup,
        libc::SYS_bpf,
        libc::SYS_userfaultfd,
        libc::SYS_mount,
        libc::SYS_unshare,
        libc::SYS_setns,
        libc::SYS_kill,
        libc::SYS_pidfd_open,
    ];
    if !network {
        refused.extend([
            libc::SYS_socket,
            libc::SYS_socketpair,
            libc::SYS_connect,
            libc::SYS_bind,
            libc::SYS_listen,
            libc::SYS_accept4,
            libc::SYS_sendto,
        ]);
    }
    let Ok(architecture) = std::env::consts::ARCH.try_into() else { return Ok(()) };
    let filter = SeccompFilter::new(
        refused.into_iter().map(|call| (call, Vec::new())).collect(),
        SeccompAction::Allow,
        SeccompAction::Errno(libc::EPERM as u32),
        architecture,
    )?;
    let program: BpfProgram = filter.try_into()?;
    seccompiler::apply_filter(&program)
}
