//! What an agent knows of its machine: read from files of the system, without any rights.

use aerie_core::inventory::{Hardware, Listening, LoggedIn, MachineFacts, Orderliness, System};
use jiff::Timestamp;
use std::collections::BTreeSet;
use std::fs;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::Path;

/// Bytes of a record of utmp(5) on Linux.
const UTMP_RECORD: usize = 384;
/// Type of a record of somebody who is logged in.
const USER_PROCESS: i16 = 7;
/// State of a listening socket in /proc/net/tcp.
const LISTEN: &str = "0A";

fn read(path: &str) -> String {
    fs::read_to_string(path).unwrap_or_default().trim().to_string()
}

/// What the computer calls itself.
pub(crate) fn host() -> String {
    nix::unistd::gethostname().map(|h| h.to_string_lossy().into_owned()).unwrap_or_default()
}

/// Gathers them.
pub fn gather(allow: &[String], temporary: bool) -> MachineFacts {
    let user = nix::unistd::User::from_uid(nix::unistd::Uid::effective()).ok().flatten();
    MachineFacts {
        version: crate::VERSION.into(),
        host: host(),
        addresses: addresses(),
        system: system(&read("/etc/os-release"), &read("/proc/sys/kernel/osrelease")),
        hardware: hardware(&read("/proc/cpuinfo"), &read("/proc/meminfo")),
        booted: booted(&read("/proc/stat")),
        users: logins().unwrap_or_default(),
        listening: listening(&read("/proc/net/tcp"), &read("/proc/net/tcp6")),
        order: Orderliness { encrypted: encrypted(&read("/proc/mounts")), firewall: firewall(), updates: updates() },
        host_keys: host_keys(),
        allow: allow.to_vec(),
        runs_as: user.map_or_else(|| nix::unistd::Uid::effective().to_string(), |u| u.name),
        temporary,
        log: String::new(),
        clock: None,
    }
}

/// Who is logged in; none where the machine keeps no list of it.
pub(crate) fn logins() -> Option<Vec<LoggedIn>> {
    ["/run/utmp", "/var/run/utmp"].iter().find_map(|p| fs::read(p).ok()).map(|b| logged_in(&b))
}

fn addresses() -> Vec<String> {
    let all = nix::ifaddrs::getifaddrs().into_iter().flatten();
    let ip = |a: &nix::sys::socket::SockaddrStorage| -> Option<IpAddr> {
        a.as_sockaddr_in().map(|v4| v4.ip().into()).or_else(|| a.as_sockaddr_in6().map(|v6| v6.ip().into()))
    };
    let known: BTreeSet<IpAddr> = all.filter_map(|i| ip(i.address.as_ref()?)).collect();
    let link_local = |a: &IpAddr| matches!(a, IpAddr::V6(v6) if v6.segments()[0] & 0xffc0 == 0xfe80);
    known.into_iter().filter(|a| !a.is_loopback() && !link_local(a)).map(|a| a.to_string()).collect()
}

fn system(os_release: &str, kernel: &str) -> System {
    let value = |key: &str| {
        let line = os_release.lines().find_map(|l| l.strip_prefix(key)?.strip_prefix('='));
        line.unwrap_or_default().trim_matches('"').to_string()
    };
    System { name: value("NAME"), version: value("VERSION_ID"), kernel: kernel.into() }
}

fn hardware(cpuinfo: &str, meminfo: &str) -> Hardware {
    let after = |text: &str, key: &str| {
        text.lines().find(|l| l.starts_with(key)).and_then(|l| l.split_once(':')).map(|(_, v)| v.trim().to_string())
    };
    let memory = after(meminfo, "MemTotal").and_then(|v| v.split(' ').next()?.parse::<u64>().ok()).unwrap_or(0);
    let maker = [read("/sys/class/dmi/id/sys_vendor"), read("/sys/class/dmi/id/product_name")];
    Hardware {
        model: maker.iter().filter(|t| !t.is_empty()).cloned().collect::<Vec<_>>().join(" "),
        processor: after(cpuinfo, "model name").unwrap_or_default(),
        cores: cpuinfo.lines().filter(|l| l.starts_with("processor")).count().try_into().unwrap_or(0),
        memory_mib: memory / 1024,
    }
}

fn booted(stat: &str) -> Option<Timestamp> {
    let seconds = stat.lines().find_map(|l| l.strip_prefix("btime "))?.trim().parse().ok()?;
    Timestamp::from_second(seconds).ok()
}

fn text_at(record: &[u8], at: usize, length: usize) -> String {
    let bytes = record.get(at..at + length).unwrap_or_default();
    String::from_utf8_lossy(bytes.split(|b| *b == 0).next().unwrap_or_default()).into_owned()
}

fn logged_in(utmp: &[u8]) -> Vec<LoggedIn> {
    let number = |r: &[u8], at: usize| r.get(at..at + 4).and_then(|b| b.try_into().ok()).map_or(0, i32::from_le_bytes);
    utmp.chunks_exact(UTMP_RECORD)
        .filter(|r| r.get(..2).and_then(|b| b.try_into().ok()).map(i16::from_le_bytes) == Some(USER_PROCESS))
        .map(|r| LoggedIn {
            account: text_at(r, 44, 32),
            terminal: text_at(r, 8, 32),
            from: text_at(r, 76, 256),
            since: Timestamp::from_second(number(r, 340).into()).ok(),
        })
        .collect()
}

fn listening(tcp: &str, tcp6: &str) -> Vec<Listening> {
    let of = |line: &str| -> Option<(String, u16)> {
        let mut fields = line.split_whitespace().skip(1);
        let (local, _, state) = (fields.next()?, fields.next()?, fields.next()?);
        let (address, port) = local.split_once(':').filter(|_| state == LISTEN)?;
        let words: Vec<u32> =
            address.as_bytes().chunks(8).filter_map(|c| u32::from_str_radix(std::str::from_utf8(c).ok()?, 16).ok()).collect();
        let ip = match words.as_slice() {
            [one] => IpAddr::V4(Ipv4Addr::from(one.to_ne_bytes())),
            [a, b, c, d] => {
                let bytes: Vec<u8> = [a, b, c, d].into_iter().flat_map(|w| w.to_ne_bytes()).collect();
                IpAddr::V6(Ipv6Addr::from(<[u8; 16]>::try_from(bytes).ok()?))
            }
            _ => return None,
        };
        Some((ip.to_string(), u16::from_str_radix(port, 16).ok()?))
    };
    let all: BTreeSet<(u16, String)> = tcp.lines().chain(tcp6.lines()).filter_map(of).map(|(a, p)| (p, a)).collect();
    all.into_iter().map(|(port, address)| Listening { address, port }).collect()
}

/// Whether what is mounted as root lies on an encrypted device (dm-crypt says so in its identifier).
fn encrypted(mounts: &str) -> Option<bool> {
    let device = mounts.lines().map(|l| l.split(' ').collect::<Vec<_>>()).find(|f| f.get(1) == Some(&"/"))?;
    let name = fs::canonicalize(device.first()?).ok()?;
    let block = Path::new("/sys/class/block").join(name.file_name()?);
    block.exists().then(|| has_crypt(&block, 0))
}

fn has_crypt(block: &Path, depth: usize) -> bool {
    let here = fs::read_to_string(block.join("dm/uuid")).is_ok_and(|u| u.starts_with("CRYPT-"));
    // Volumes lie on others: a logical volume on an encrypted partition.
    here || depth < 4 && fs::read_dir(block.join("slaves")).into_iter().flatten().flatten().any(|s| has_crypt(&s.path(), depth + 1))
}

fn firewall() -> Option<bool> {
    if read("/etc/ufw/ufw.conf").lines().any(|l| l.trim() == "ENABLED=yes") || !read("/proc/net/ip_tables_names").is_empty() {
        return Some(true);
    }
    None
}

/// Updates that the system's own notifier counted; an agent asks no package manager, which would cost minutes.
fn updates() -> Option<u32> {
    let text = fs::read_to_string("/var/lib/update-notifier/updates-available").ok()?;
    let counted = text.lines().find_map(|l| l.split(' ').next()?.parse().ok());
    Some(counted.unwrap_or(0))
}

fn host_keys() -> Vec<String> {
    let of = |kind: &str| fs::read_to_string(format!("/etc/ssh/ssh_host_{kind}_key.pub")).ok();
    let plain = |line: String| line.split_whitespace().take(2).collect::<Vec<_>>().join(" ");
    ["ed25519", "ecdsa", "rsa"].iter().filter_map(|k| of(k)).map(plain).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_system_is_read_as_it_writes() {
        let s = system("NAME=\"Debian GNU/Linux\"\nVERSION_ID=\"12\"\n", "6.1.0-9-amd64");
        assert_eq!((s.name.as_str(), s.version.as_str(), s.kernel.as_str()), ("Debian GNU/Linux", "12", "6.1.0-9-amd64"));
        let h = hardware("processor\t: 0\nmodel name\t: Made Up 3\nprocessor\t: 1\n", "MemTotal:       24576000 kB\n");
        assert_eq!((h.processor.as_str(), h.cores, h.memory_mib), ("Made Up 3", 2, 24000));
        assert_eq!(booted("cpu 1 2\nbtime 1780000000\n"), Timestamp::from_second(1_780_000_000).ok());
        assert_eq!((booted(""), system("", "").name), (None, String::new()));
    }

    #[test]
    fn listening_ports_are_told_from_connections() {
        let tcp = "  sl  local_address rem_address   st\n   0: 0100007F:170D 00000000:0000 0A 0\n   1: 00000000:0016 00000000:0000 0A 0\n   2: 0100007F:9C40 0100007F:0016 01 0\n";
        let tcp6 = "  sl  local_address\n   0: 00000000000000000000000001000000:0277 00000000000000000000000000000000:0000 0A 0\n";
        let found: Vec<String> = listening(tcp, tcp6).iter().map(|l| format!("{} {}", l.address, l.port)).collect();
        assert_eq!(found, ["0.0.0.0 22", "::1 631", "127.0.0.1 5901"]);
        assert!(listening("garbage\n0: zz:zz 0 0A", "").is_empty());
    }

    #[test]
    fn who_is_logged_in_is_read_from_binary_records() {
        let mut record = vec![0u8; UTMP_RECORD];
        record[0] = 7;
        record[8..13].copy_from_slice(b"pts/3");
        record[44..48].copy_from_slice(b"ines");
        record[76..85].copy_from_slice(b"10.20.9.4");
        record[340..344].copy_from_slice(&1_780_000_000i32.to_le_bytes());
        let mut other = record.clone();
        other[0] = 8;
        let found = logged_in(&[record, other, vec![1; 17]].concat());
        assert_eq!(found.len(), 1);
        let one = &found[0];
        assert_eq!((one.account.as_str(), one.terminal.as_str(), one.from.as_str()), ("ines", "pts/3", "10.20.9.4"));
        assert_eq!(one.since, Timestamp::from_second(1_780_000_000).ok());
    }

    #[test]
    fn this_machine_is_described_within_bounds() {
        let facts = gather(&["127.0.0.1:22".into()], false);
        assert!(!facts.host.is_empty() && facts.hardware.cores > 0 && facts.booted.is_some());
        assert_eq!(facts.clone().bounded().host, facts.host);
    }
}
