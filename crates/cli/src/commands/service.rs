//! `service print`: what a service manager or a container needs to run the porter.

use crate::args::{Service, ServiceForm, ServiceWhat};
use anyhow::{Context, Result};
use porter::config::House;
use porter::jobs::folders::used;
use std::path::Path;
use std::process::ExitCode;

pub fn service(a: &Service) -> Result<ExitCode> {
    let ServiceWhat::Print { house, form, user } = &a.what;
    let house = House::load(&house.find())?;
    let program = std::env::current_exe().context("cannot find this program's own file")?;
    let text = match form {
        ServiceForm::Systemd => unit(&house, &program, user),
        ServiceForm::Container => container(&house),
    };
    crate::say_part!("{text}");
    Ok(ExitCode::SUCCESS)
}

/// A path as units write it: blanks and signs that mean something there are escaped.
fn escaped(path: &Path) -> String {
    let mut out = String::new();
    for c in path.to_string_lossy().chars() {
        match c {
            ' ' => out.push_str("\\x20"),
            '%' => out.push_str("%%"),
            '"' => out.push_str("\\x22"),
            '\\' => out.push_str("\\x5c"),
            // A name with a line in it must not be a line of the unit.
            c if c.is_control() => out.push_str(&format!("\\x{:02x}", u32::from(c))),
            c => out.push(c),
        }
    }
    out
}

fn unit(house: &House, program: &Path, user: &str) -> String {
    let base = house.file.parent().unwrap_or(Path::new("/"));
    let mut folders: Vec<String> = used(house).iter().map(|u| escaped(&u.path)).collect();
    folders.push(escaped(&house.state));
    folders.sort();
    folders.dedup();
    let mounts = folders.join(" ");
    // A folder that is not there keeps no other from being used.
    let writable = folders.iter().map(|f| format!("-{f}")).collect::<Vec<_>>().join(" ");
    format!(
        "# Deft Porter for \"{name}\". To use it:\n\
         #   deft-porter service print {base} > /etc/systemd/system/deft-porter.service\n\
         #   systemctl daemon-reload && systemctl enable --now deft-porter\n\
         [Unit]\n\
         Description=Deft Porter: {name}\n\
         After=network-online.target remote-fs.target\n\
         Wants=network-online.target\n\
         # Shares that are not mounted are waited for by the porter itself.\n\
         # RequiresMountsFor={mounts}\n\
         \n\
         [Service]\n\
         Type=notify\n\
         User={user}\n\
         ExecStart={program} run {base}\n\
         # A changed configuration is taken up by itself; a reload looks at once.\n\
         ExecReload=/bin/kill -HUP $MAINPID\n\
         WatchdogSec=2min\n\
         TimeoutStopSec=15\n\
         Restart=on-failure\n\
         RestartSec=10\n\
         # Work that is under way is ended by the porter, in order.\n\
         KillMode=mixed\n\
         \n\
         NoNewPrivileges=yes\n\
         ProtectSystem=strict\n\
         ReadWritePaths={writable}\n\
         PrivateTmp=yes\n\
         PrivateDevices=yes\n\
         ProtectKernelTunables=yes\n\
         ProtectKernelModules=yes\n\
         ProtectKernelLogs=yes\n\
         ProtectControlGroups=yes\n\
         ProtectClock=yes\n\
         ProtectHostname=yes\n\
         RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6\n\
         RestrictNamespaces=yes\n\
         RestrictRealtime=yes\n\
         RestrictSUIDSGID=yes\n\
         LockPersonality=yes\n\
         SystemCallArchitectures=native\n\
         UMask=0027\n\
         \n\
         [Install]\n\
         WantedBy=multi-user.target\n",
        name = house.name.replace(['\n', '"'], " "),
        base = escaped(base),
        program = escaped(program),
    )
}

fn container(house: &House) -> String {
    let line = |path: &Path| media::show::path(path);
    let mounts: String =
        used(house).iter().map(|u| format!("#     -v {path}:{path} \\\n", path = line(&u.path))).collect();
    let base = line(house.file.parent().unwrap_or(Path::new("/")));
    format!(
        "# Deft Porter for \"{}\", as a container. To use it, with the program beside this file:\n\
         #   podman build -t deft-porter . && podman run -d --name deft-porter --read-only --cap-drop all \\\n\
         #     -v {base}:{base} \\\n{mounts}#     deft-porter run {base}\n\
         FROM debian:stable-slim\n\
         COPY deft-porter /usr/local/bin/deft-porter\n\
         RUN useradd --create-home porter\n\
         USER porter\n\
         STOPSIGNAL SIGTERM\n\
         ENTRYPOINT [\"/usr/local/bin/deft-porter\"]\n",
        house.name.replace(['\n', '"'], " ")
    )
}
