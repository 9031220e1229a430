//! Which user of this machine a loopback connection belongs to: the kernel's own table says so.

use std::net::{IpAddr, SocketAddr};

/// A field of the line of /proc/net/tcp (proc(5)) that is about this connection: the user is the eighth, the socket the tenth.
fn field_in(table: &str, from: SocketAddr, to: SocketAddr, at: usize) -> Option<String> {
    let hex = |a: SocketAddr| match a.ip() {
        IpAddr::V4(ip) => format!("{:08X}:{:04X}", u32::from_ne_bytes(ip.octets()), a.port()),
        IpAddr::V6(ip) => {
            let words =
                ip.octets().chunks_exact(4).map(|c| format!("{:08X}", u32::from_ne_bytes([c[0], c[1], c[2], c[3]]))).collect::<String>();
            format!("{words}:{:04X}", a.port())
        }
    };
    let (from, to) = (hex(from), hex(to));
    table.lines().find_map(|line| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let matches = fields.get(1) == Some(&from.as_str()) && fields.get(2) == Some(&to.as_str());
        if matches { fields.get(at).map(ToString::to_string) } else { None }
    })
}

fn user_in(table: &str, from: SocketAddr, to: SocketAddr) -> Option<u32> {
    field_in(table, from, to, 7)?.parse().ok()
}

fn table(from: SocketAddr) -> Option<String> {
    std::fs::read_to_string(if from.is_ipv4() { "/proc/net/tcp" } else { "/proc/net/tcp6" }).ok()
}

/// The number of the socket at the other end.
pub(super) fn socket_of(from: SocketAddr, to: SocketAddr) -> Option<String> {
    field_in(&table(from)?, from, to, 9)
}

/// The name of the user at the other end, and the terminal where that is known. None where it cannot be told.
pub(super) fn user_of(from: SocketAddr, to: SocketAddr) -> Option<String> {
    let uid = user_in(&table(from)?, from, to)?;
    let known = nix::unistd::User::from_uid(nix::unistd::Uid::from_raw(uid)).ok().flatten();
    Some(known.map_or_else(|| uid.to_string(), |u| u.name))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_kernels_table_tells_whose_a_connection_is() {
        let table = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n\
                     0: 0100007F:1BA5 00000000:0000 0A 00000000:00000000 00:00000000 00000000  1001        0 111 1\n\
                     1: 0100007F:D431 0100007F:1BA5 01 00000000:00000000 00:00000000 00000000  1000        0 112 1\n\
                     2: 0100007F:1BA5 0100007F:D431 01 00000000:00000000 00:00000000 00000000  1001        0 113 1\n";
        let at = |port| SocketAddr::from(([127, 0, 0, 1], port));
        assert_eq!(user_in(table, at(0xD431), at(0x1BA5)), Some(1000));
        assert_eq!(user_in(table, at(0xD432), at(0x1BA5)), None);
    }

    #[test]
    fn ones_own_connection_is_ones_own() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let to = listener.local_addr().unwrap();
        let near = std::net::TcpStream::connect(to).unwrap();
        let me = nix::unistd::User::from_uid(nix::unistd::Uid::effective()).unwrap().map(|u| u.name);
        assert_eq!(user_of(near.local_addr().unwrap(), to), me);
    }
}
