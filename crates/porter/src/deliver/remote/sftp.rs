//! SFTP, version 3 (draft-ietf-secsh-filexfer-02) over SSH (RFC 4251 to 4254).

use super::super::Published;
use super::feed::Feed;
use super::site::{Kind, MOST_LISTED, Site, Stands};
use super::{Remote, Trouble};
use crate::services::Login;
use russh::Channel;
use russh::client::{self, AuthResult, Handle, Msg};
use russh::keys::agent::AgentIdentity;
use russh::keys::agent::client::AgentClient;
use russh::keys::{HashAlg, PrivateKeyWithHashAlg, PublicKey, PublicKeyOrCertificate, load_secret_key};
use russh_sftp::client::error::Error;
use russh_sftp::client::fs::Metadata;
use russh_sftp::client::{Config, RawSftpSession, SftpSession};
use russh_sftp::protocol::{FileType, OpenFlags, StatusCode};
use std::io::{Read, SeekFrom};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncSeekExt, AsyncWriteExt};
use tokio::runtime::Runtime;
use tokio::time::timeout;

/// Read from the made file, and from the server, at once.
const BLOCK: usize = 1 << 18;
/// Requests that are on their way at once; each carries 32 kB.
const AT_ONCE: usize = 64;

pub struct Sftp {
    remote: Remote,
    session: SftpSession,
    /// Folders are listed over a channel of its own, which tells answers as they come.
    listing: Option<RawSftpSession>,
    /// The connection lives as long as this.
    handle: Handle<HostKeys>,
    runtime: Runtime,
}

/// Whether the other end is the host it should be.
struct HostKeys {
    remote: Remote,
    /// Why it is not.
    why: Arc<Mutex<Option<String>>>,
}

impl HostKeys {
    fn judge(&self, key: &PublicKey) -> Result<(), String> {
        let found = key.fingerprint(HashAlg::Sha256).to_string();
        if let Some(wanted) = &self.remote.host_key {
            return match *wanted == found {
                true => Ok(()),
                false => Err(format!("its host key is {found}, not {wanted}: is it another host?")),
            };
        }
        let (host, port) = (self.remote.host.as_str(), self.remote.port);
        let (known, file) = match &self.remote.known_hosts {
            Some(path) => {
                if let Err(e) = std::fs::metadata(path) {
                    return Err(format!("cannot read {}: {e}", media::show::path(path)));
                }
                (
                    russh::keys::known_hosts::check_known_hosts_path(host, port, key, path),
                    media::show::path(path),
                )
            }
            None => {
                (russh::keys::known_hosts::check_known_hosts(host, port, key), "~/.ssh/known_hosts".into())
            }
        };
        match known {
            Ok(true) => Ok(()),
            Ok(false) => Err(format!(
                "its host key {found} is not in {file}: if that is the host's own, write host_key = \"{found}\""
            )),
            Err(russh::keys::Error::KeyChanged { line }) => Err(format!(
                "its host key is {found}, and {file} line {line} has another: is it another host?"
            )),
            Err(e) => Err(format!("{file}: {e}")),
        }
    }
}

impl client::Handler for HostKeys {
    type Error = russh::Error;

    async fn check_server_key(&mut self, key: &PublicKeyOrCertificate) -> Result<bool, russh::Error> {
        let told = match key {
            PublicKeyOrCertificate::PublicKey { key, .. } => self.judge(key),
            PublicKeyOrCertificate::Certificate(c) => self.judge(&PublicKey::from(c.public_key().clone())),
        };
        let good = told.is_ok();
        *self.why.lock().unwrap_or_else(|e| e.into_inner()) = told.err();
        Ok(good)
    }
}

impl Sftp {
    pub fn connect(remote: &Remote) -> Result<Sftp, Trouble> {
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .map_err(|e| remote.away(format!("no connection can be made: {e}")))?;
        let (handle, session) = runtime.block_on(open(remote))?;
        Ok(Sftp { remote: remote.clone(), session, listing: None, handle, runtime })
    }

    fn trouble(&self, what: &str, path: &str, e: Error) -> Trouble {
        let why = |e: &dyn std::fmt::Display| format!("{what} {}: {e}", self.remote.at(path));
        match e {
            Error::Status(s) => match s.status_code {
                StatusCode::PermissionDenied => Trouble::Refused(why(&"permission denied")),
                StatusCode::NoSuchFile => Trouble::Away(why(&"it is not there")),
                StatusCode::Failure if self.is_full() => Trouble::Full(why(&"no space left there")),
                _ => Trouble::Away(why(&s.error_message)),
            },
            // A failed write comes back as its words alone.
            Error::IO(words) if words == "Failure" && self.is_full() => {
                Trouble::Full(why(&"no space left there"))
            }
            Error::Timeout => {
                Trouble::Away(why(&format!("no answer in {} s", self.remote.timeout.as_secs())))
            }
            e => Trouble::Away(why(&e)),
        }
    }

    /// Servers do not say of a failed write that the disk is full.
    fn is_full(&self) -> bool {
        let base = if self.remote.base.is_empty() { "/" } else { &self.remote.base };
        let told = self.runtime.block_on(self.session.fs_info(base));
        told.is_ok_and(|s| s.is_some_and(|s| s.blocks_avail * s.fragment_size < 1_000_000))
    }
}

async fn open(remote: &Remote) -> Result<(Handle<HostKeys>, SftpSession), Trouble> {
    let config = client::Config {
        client_id: russh::SshId::Standard(concat!("SSH-2.0-deft-porter_", env!("CARGO_PKG_VERSION")).into()),
        keepalive_interval: Some(Duration::from_secs(10)),
        keepalive_max: 3,
        window_size: 8 << 20,
        nodelay: true,
        ..client::Config::default()
    };
    let why: Arc<Mutex<Option<String>>> = Arc::default();
    let keys = HostKeys { remote: remote.clone(), why: why.clone() };
    let late = |_| remote.away(format!("no answer in {} s", remote.timeout.as_secs()));
    let connecting = client::connect(Arc::new(config), (remote.host.as_str(), remote.port), keys);
    let connected = timeout(remote.timeout, connecting).await.map_err(late)?;
    let mut handle = connected.map_err(|e| {
        let told = why.lock().unwrap_or_else(|e| e.into_inner()).take();
        match told {
            Some(why) => remote.refused(why),
            None => remote.away(format!("it cannot be reached: {e}")),
        }
    })?;
    timeout(remote.timeout, log_in(remote, &mut handle)).await.map_err(late)??;
    let lost = |e: russh::Error| remote.away(format!("it has no SFTP: {e}"));
    let opening = async {
        let channel = channel_of(&handle).await.map_err(lost)?;
        let session = SftpSession::new_with_config(channel.into_stream(), settings(remote)).await;
        session.map_err(|e| remote.away(format!("it has no SFTP: {e}")))
    };
    let session = timeout(remote.timeout, opening).await.map_err(late)??;
    Ok((handle, session))
}

async fn channel_of(handle: &Handle<HostKeys>) -> Result<Channel<Msg>, russh::Error> {
    let channel = handle.channel_open_session().await?;
    channel.request_subsystem(true, "sftp").await?;
    Ok(channel)
}

fn settings(remote: &Remote) -> Config {
    Config {
        max_concurrent_reads: AT_ONCE,
        max_concurrent_writes: AT_ONCE,
        request_timeout_secs: remote.timeout.as_secs().max(1),
        ..Config::default()
    }
}

async fn listing_of(handle: &Handle<HostKeys>, remote: &Remote) -> Result<RawSftpSession, Error> {
    let open = async {
        let channel = channel_of(handle).await.map_err(|e| Error::IO(e.to_string()))?;
        let raw = RawSftpSession::new_with_config(channel.into_stream(), settings(remote));
        raw.init().await.map(|_| raw)
    };
    timeout(remote.timeout, open).await.unwrap_or(Err(Error::Timeout))
}

/// What is in a folder, as far as there is an end of it.
async fn list(from: &RawSftpSession, folder: &str) -> Result<Vec<(String, Stands)>, Error> {
    let opened = from.opendir(folder).await?.handle;
    let mut found = Vec::new();
    loop {
        match from.readdir(opened.as_str()).await {
            Ok(names) => {
                found.extend(names.files.into_iter().map(|f| (f.filename, stands(&f.attrs))));
            }
            Err(Error::Status(s)) if s.status_code == StatusCode::Eof => break,
            Err(e) => return Err(e),
        }
        if found.len() > MOST_LISTED {
            return Err(Error::UnexpectedBehavior("its listing has no end".into()));
        }
    }
    from.close(opened).await?;
    found.retain(|(name, _)| name != "." && name != "..");
    Ok(found)
}

/// With the key or the password that is configured, or what the agent offers.
async fn log_in(remote: &Remote, handle: &mut Handle<HostKeys>) -> Result<(), Trouble> {
    let lost = |e: russh::Error| remote.away(format!("it broke off while logging in: {e}"));
    let user = remote.user().unwrap_or_default().to_owned();
    let secret = remote.password()?;
    let result = match (&remote.key, secret) {
        (Some(path), secret) => {
            let key = load_secret_key(path, secret.as_ref().map(|s| s.tell()));
            let key = key.map_err(|e| remote.refused(format!("{}: {e}", media::show::path(path))))?;
            let hash = handle.best_supported_rsa_hash().await.map_err(lost)?.flatten();
            let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash);
            handle.authenticate_publickey(user, key).await.map_err(lost)?
        }
        (None, Some(secret)) => handle.authenticate_password(user, secret.tell()).await.map_err(lost)?,
        (None, None) => ask_agent(remote, handle, &user).await?,
    };
    match result {
        AuthResult::Success => Ok(()),
        AuthResult::Failure { .. } => {
            let how = match (&remote.key, &remote.login) {
                (Some(_), _) => "the key",
                (None, Login::Password { .. }) => "the password",
                _ => "the agent's keys",
            };
            let user = remote.user().unwrap_or_default();
            Err(remote.refused(format!("{how} of user \"{user}\" is not accepted")))
        }
    }
}

async fn ask_agent(
    remote: &Remote,
    handle: &mut Handle<HostKeys>,
    user: &str,
) -> Result<AuthResult, Trouble> {
    let no = |e: &dyn std::fmt::Display| {
        remote.refused(format!(
            "neither a key_file nor a password is configured, and the agent cannot be asked: {e}"
        ))
    };
    let mut agent = AgentClient::connect_env().await.map_err(|e| no(&e))?;
    let mut last = handle.authenticate_none(user).await.map_err(|e| no(&e))?;
    for identity in agent.request_identities().await.map_err(|e| no(&e))? {
        let AgentIdentity::PublicKey { key, .. } = identity else { continue };
        let hash = if key.algorithm().is_rsa() {
            handle.best_supported_rsa_hash().await.map_err(|e| no(&e))?.flatten()
        } else {
            None
        };
        last = handle.authenticate_publickey_with(user, key, hash, &mut agent).await.map_err(|e| no(&e))?;
        if last.success() {
            break;
        }
    }
    Ok(last)
}

fn stands(m: &Metadata) -> Stands {
    let kind = match m.file_type() {
        FileType::Dir => Kind::Folder,
        FileType::File => Kind::File,
        _ => Kind::Other,
    };
    Stands { bytes: m.size.unwrap_or(0), kind, modified: m.mtime.map(|t| i64::from(t) * 1_000_000) }
}

fn is_gone(e: &Error) -> bool {
    matches!(e, Error::Status(s) if s.status_code == StatusCode::NoSuchFile)
}

impl Site for Sftp {
    fn look(&mut self, path: &str) -> Result<Option<Stands>, Trouble> {
        let path = if path.is_empty() { "/" } else { path };
        match self.runtime.block_on(self.session.symlink_metadata(path)) {
            Ok(m) => Ok(Some(stands(&m))),
            Err(e) if is_gone(&e) => Ok(None),
            Err(e) => Err(self.trouble("cannot look at", path, e)),
        }
    }

    fn list(&mut self, folder: &str) -> Result<Vec<(String, Stands)>, Trouble> {
        let told = self.runtime.block_on(async {
            if self.listing.is_none() {
                self.listing = Some(listing_of(&self.handle, &self.remote).await?);
            }
            match &self.listing {
                Some(from) => list(from, folder).await,
                None => Err(Error::Timeout),
            }
        });
        told.map_err(|e| self.trouble("cannot list", folder, e))
    }

    fn make_folder(&mut self, path: &str) -> Result<(), Trouble> {
        match self.runtime.block_on(self.session.create_dir(path)) {
            Ok(()) => Ok(()),
            // Another task made it in this moment.
            Err(_) if self.look(path)?.is_some_and(|s| s.kind == Kind::Folder) => Ok(()),
            Err(e) => Err(self.trouble("cannot make the folder", path, e)),
        }
    }

    fn write(&mut self, path: &str, from: u64, source: &mut Feed<'_>) -> Result<(), Trouble> {
        let flags = OpenFlags::WRITE | OpenFlags::CREATE;
        // Nothing that stands there is written through: a link least of all.
        let flags = if from == 0 { flags | OpenFlags::EXCLUDE } else { flags };
        let sent = self.runtime.block_on(async {
            let mut file = self.session.open_with_flags(path, flags).await?;
            file.seek(SeekFrom::Start(from)).await?;
            let mut block = vec![0; BLOCK];
            loop {
                match source.read(&mut block)? {
                    0 => break,
                    n => file.write_all(&block[..n]).await?,
                }
            }
            file.flush().await?;
            file.sync_all().await?;
            file.close().await?;
            Ok(())
        });
        sent.map_err(|e| self.trouble("cannot write", path, e))
    }

    fn read(
        &mut self,
        path: &str,
        from: u64,
        take: &mut dyn FnMut(&[u8]) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        let mut stop = None;
        let got = self.runtime.block_on(async {
            let mut file = self.session.open(path).await?;
            file.seek(SeekFrom::Start(from)).await?;
            let mut block = vec![0; BLOCK];
            loop {
                match file.read(&mut block).await? {
                    0 => return Ok(()),
                    n => {
                        if let Err(trouble) = take(&block[..n]) {
                            stop = Some(trouble);
                            return Ok(());
                        }
                    }
                }
            }
        });
        got.map_err(|e| self.trouble("cannot read", path, e))?;
        stop.map_or(Ok(()), Err)
    }

    /// In version 3 a name that is taken is refused; OpenSSH does it by a link, so that nothing comes between.
    fn rename(&mut self, from: &str, to: &str) -> Result<Published, Trouble> {
        match self.runtime.block_on(self.session.rename(from, to)) {
            Ok(()) => Ok(Published::Done),
            Err(Error::Status(_)) if self.look(to)?.is_some() => Ok(Published::Taken),
            Err(e) => Err(self.trouble("cannot rename to", to, e)),
        }
    }

    fn remove(&mut self, path: &str) -> Result<(), Trouble> {
        match self.runtime.block_on(self.session.remove_file(path)) {
            Ok(()) => Ok(()),
            Err(e) if is_gone(&e) => Ok(()),
            Err(e) => Err(self.trouble("cannot remove", path, e)),
        }
    }

    fn remove_folder(&mut self, path: &str) -> Result<(), Trouble> {
        match self.runtime.block_on(self.session.remove_dir(path)) {
            Ok(()) => Ok(()),
            Err(e) if is_gone(&e) => Ok(()),
            Err(e) => Err(self.trouble("cannot remove", path, e)),
        }
    }

    fn home(&mut self) -> Result<String, Trouble> {
        let told = self.runtime.block_on(self.session.canonicalize("."));
        told.map_err(|e| self.trouble("cannot ask for the home at", "", e))
    }

    fn resumes(&self) -> bool {
        true
    }

    fn refuses_taken(&self) -> bool {
        true
    }
}
