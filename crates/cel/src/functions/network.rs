//! The network extension library: addresses and ranges of addresses.

use super::{Call, Fault, Outcome, functions};
use crate::eval_error::EvalErrorKind;
use crate::value::{Object, Value};
use core::net::IpAddr;
use std::any::Any;

use std::sync::Arc;

functions! { "network":
    "ip" ["ip(string) -> net.IP", "net.CIDR.ip() -> net.IP"]
        "parses an IP address; of a range, its address", "ip(body.scale).isLoopback()" => ip;
    "isIP" ["isIP(string) -> bool"] "whether a string is an IP address", "isIP(body.scale)" => is_ip;
    "ip.isCanonical" ["ip.isCanonical(string) -> bool"]
        "whether an IP address is in its canonical form", "ip.isCanonical('2001:db8::1')" => is_canonical;
    "family" ["net.IP.family() -> int"] "4 or 6", "ip(body.scale).family() == 4" => |call| of_ip(call, |ip| Value::Int(if ip.is_ipv4() { 4 } else { 6 }));
    "isUnspecified" ["net.IP.isUnspecified() -> bool"]
        "whether the address is unspecified", "ip('0.0.0.0').isUnspecified()" => |call| of_ip(call, |ip| ip.is_unspecified().into());
    "isLoopback" ["net.IP.isLoopback() -> bool"]
        "whether the address is a loopback address", "ip('127.0.0.1').isLoopback()" => |call| of_ip(call, |ip| ip.is_loopback().into());
    "isGlobalUnicast" ["net.IP.isGlobalUnicast() -> bool"]
        "whether the address is a global unicast address", "ip(body.scale).isGlobalUnicast()" => |call| of_ip(call, |ip| is_global_unicast(ip).into());
    "isLinkLocalMulticast" ["net.IP.isLinkLocalMulticast() -> bool"]
        "whether the address is a link-local multicast address", "ip('224.0.0.1').isLinkLocalMulticast()" => |call| of_ip(call, |ip| is_link_local_multicast(ip).into());
    "isLinkLocalUnicast" ["net.IP.isLinkLocalUnicast() -> bool"]
        "whether the address is a link-local unicast address", "ip('169.254.0.1').isLinkLocalUnicast()" => |call| of_ip(call, |ip| is_link_local_unicast(ip).into());
    "cidr" ["cidr(string) -> net.CIDR"]
        "parses an address range (RFC 4632)", "cidr('192.0.2.0/24').containsIP(body.scale)" => cidr;
    "isCIDR" ["isCIDR(string) -> bool"] "whether a string is an address range", "isCIDR('192.0.2.0/24')" => is_cidr;
    "containsIP" ["net.CIDR.containsIP(net.IP) -> bool", "net.CIDR.containsIP(string) -> bool"]
        "whether a range contains an address", "cidr('192.0.2.0/24').containsIP('192.0.2.7')" => contains_ip;
    "containsCIDR" ["net.CIDR.containsCIDR(net.CIDR) -> bool", "net.CIDR.containsCIDR(string) -> bool"]
        "whether a range contains another range", "cidr('192.0.2.0/24').containsCIDR('192.0.2.0/25')" => contains_cidr;
    "masked" ["net.CIDR.masked() -> net.CIDR"]
        "a range with its first address", "cidr('192.0.2.7/24').masked()" => masked;
    "prefixLength" ["net.CIDR.prefixLength() -> int"]
        "the prefix length of a range", "cidr('192.0.2.0/24').prefixLength() == 24" => prefix_length;
}

/// An address.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Ip(IpAddr);

/// A range of addresses: those that have the first bits of one in common.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Cidr {
    address: IpAddr,
    prefix: u8,
}

impl Object for Ip {
    fn type_name(&self) -> &'static str {
        "net.IP"
    }

    fn equals(&self, other: &dyn Object) -> bool {
        other.as_any().downcast_ref() == Some(self)
    }

    fn text(&self) -> String {
        self.0.to_string()
    }

    fn as_any(&self) -> &dyn Any {
        self
    }
}

impl Object for Cidr {
    fn type_name(&self) -> &'static str {
        "net.CIDR"
    }

    fn equals(&self, other: &dyn Object) -> bool {
        other.as_any().downcast_ref() == Some(self)
    }

    fn text(&self) -> String {
        format!("{}/{}", self.address, self.prefix)
    }

    fn as_any(&self) -> &dyn Any {
        self
    }
}

impl From<IpAddr> for Value {
    fn from(address: IpAddr) -> Self {
        Value::Object(Arc::new(Ip(address)))
    }
}

impl Cidr {
    fn parse(text: &str) -> Option<Self> {
        let (address, prefix) = text.split_once('/')?;
        let address = parse_ip(address)?;
        let prefix =
            prefix.parse().ok().filter(|_| prefix.len() < 4 && (prefix == "0" || !prefix.starts_with(['0', '+'])))?;
        (prefix <= if address.is_ipv4() { 32 } else { 128 }).then_some(Self { address, prefix })
    }

    /// An address with only the bits that those of the range have in common.
    fn mask(&self, address: IpAddr) -> Option<IpAddr> {
        Some(match (self.address, address) {
            (IpAddr::V4(_), IpAddr::V4(address)) => {
                let mask = u32::MAX.checked_shl(32 - u32::from(self.prefix)).unwrap_or(0);
                IpAddr::V4((u32::from(address) & mask).into())
            }
            (IpAddr::V6(_), IpAddr::V6(address)) => {
                let mask = u128::MAX.checked_shl(128 - u32::from(self.prefix)).unwrap_or(0);
                IpAddr::V6((u128::from(address) & mask).into())
            }
            _ => return None,
        })
    }

    fn contains(&self, address: IpAddr) -> bool {
        self.mask(address).is_some_and(|masked| self.mask(self.address) == Some(masked))
    }
}

/// An address without a zone, and not one of IPv4 in the form of IPv6.
fn parse_ip(text: &str) -> Option<IpAddr> {
    let address: IpAddr = text.parse().ok()?;
    let is_mapped = matches!(address, IpAddr::V6(v6) if v6.to_ipv4_mapped().is_some());
    (!is_mapped).then_some(address)
}

fn not_a(text: &str, expected: &'static str) -> Fault {
    EvalErrorKind::Text { text: text.to_owned(), expected }.into()
}

fn ip_of(text: &str) -> Result<IpAddr, Fault> {
    parse_ip(text).ok_or_else(|| not_a(text, "an IP address"))
}

fn cidr_of(text: &str) -> Result<Cidr, Fault> {
    Cidr::parse(text).ok_or_else(|| not_a(text, "an address range such as `192.0.2.0/24`"))
}

fn ip(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::String(text)] => ip_of(text).map(Value::from),
        [value] if let Some(cidr) = value.as_object::<Cidr>() => Ok(cidr.address.into()),
        _ => Err(Fault::NoOverload),
    }
}

fn is_ip(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::String(text)] => Ok(Value::Bool(parse_ip(text).is_some())),
        _ => Err(Fault::NoOverload),
    }
}

fn is_canonical(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::String(text)] => Ok(Value::Bool(ip_of(text)?.to_string() == **text)),
        _ => Err(Fault::NoOverload),
    }
}

fn of_ip(call: &mut Call<'_>, part: fn(&IpAddr) -> Value) -> Outcome {
    match call.arguments {
        [value] if let Some(Ip(address)) = value.as_object() => Ok(part(address)),
        _ => Err(Fault::NoOverload),
    }
}

fn is_link_local_multicast(address: &IpAddr) -> bool {
    match address {
        IpAddr::V4(address) => address.octets()[..3] == [224, 0, 0],
        IpAddr::V6(address) => address.segments()[0] & 0xff0f == 0xff02,
    }
}

fn is_link_local_unicast(address: &IpAddr) -> bool {
    match address {
        IpAddr::V4(address) => address.is_link_local(),
        IpAddr::V6(address) => address.is_unicast_link_local(),
    }
}

fn is_global_unicast(address: &IpAddr) -> bool {
    let is_broadcast = matches!(address, IpAddr::V4(address) if address.is_broadcast());
    !(is_broadcast
        || address.is_unspecified()
        || address.is_loopback()
        || address.is_multicast()
        || is_link_local_unicast(address))
}

fn cidr(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::String(text)] => Ok(Value::Object(Arc::new(cidr_of(text)?))),
        _ => Err(Fault::NoOverload),
    }
}

fn is_cidr(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::String(text)] => Ok(Value::Bool(Cidr::parse(text).is_some())),
        _ => Err(Fault::NoOverload),
    }
}

fn contains_ip(call: &mut Call<'_>) -> Outcome {
    let [range, other] = call.arguments else { return Err(Fault::NoOverload) };
    let range = range.as_object::<Cidr>().ok_or(Fault::NoOverload)?;
    let address = match other {
        Value::String(text) => ip_of(text)?,
        other => other.as_object::<Ip>().ok_or(Fault::NoOverload)?.0,
    };
    Ok(Value::Bool(range.contains(address)))
}

fn contains_cidr(call: &mut Call<'_>) -> Outcome {
    let [range, other] = call.arguments else { return Err(Fault::NoOverload) };
    let range = range.as_object::<Cidr>().ok_or(Fault::NoOverload)?;
    let other = match other {
        Value::String(text) => cidr_of(text)?,
        other => *other.as_object::<Cidr>().ok_or(Fault::NoOverload)?,
    };
    Ok(Value::Bool(range.prefix <= other.prefix && range.contains(other.address)))
}

fn masked(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [value] if let Some(range) = value.as_object::<Cidr>() => {
            let address = range.mask(range.address).unwrap_or(range.address);
            Ok(Value::Object(Arc::new(Cidr { address, prefix: range.prefix })))
        }
        _ => Err(Fault::NoOverload),
    }
}

fn prefix_length(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [value] if let Some(range) = value.as_object::<Cidr>() => Ok(Value::Int(range.prefix.into())),
        _ => Err(Fault::NoOverload),
    }
}
