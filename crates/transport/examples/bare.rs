//! The floor that the benchmarks measure against: the same HTTP library, and nothing else.
//!
//! `bare get URL` fetches once and prints the body. `bare pairs BASE KEY N` books in N lots one after
//! another, takes each id out of the answer, reads the lot back and compares. `bare beside BASE C N` reads a lot
//! N times on C connections, and compares.

use std::io::Write;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let args: Vec<&str> = args.iter().map(String::as_str).collect();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let tls = rustls::ClientConfig::builder_with_provider(rustls::crypto::ring::default_provider().into())
        .with_safe_default_protocol_versions()?
        .with_root_certificates(rustls::RootCertStore::empty())
        .with_no_client_auth();
    let client = reqwest::Client::builder().tls_backend_preconfigured(tls).no_proxy().build()?;
    match args.as_slice() {
        ["get", url] => {
            let body = runtime.block_on(async { client.get(*url).send().await?.bytes().await })?;
            std::io::stdout().write_all(&body)?;
        }
        ["pairs", base, key, times] => {
            let times: u32 = times.parse()?;
            runtime.block_on(pairs(&client, base, key, times))?;
        }
        ["beside", base, connections, times] => {
            let (connections, times): (u32, u32) = (connections.parse()?, times.parse()?);
            let reads = (0..connections).map(|_| reads(&client, base, times / connections));
            runtime.block_on(futures_util::future::try_join_all(reads))?;
        }
        _ => return Err("bare get URL | bare pairs BASE KEY N | bare beside BASE C N".into()),
    }
    Ok(())
}

async fn pairs(client: &reqwest::Client, base: &str, key: &str, times: u32) -> Result<(), Box<dyn std::error::Error>> {
    for number in 0..times {
        let bins = number % 40 + 1;
        let booked = client
            .post(format!("{base}/lots"))
            .header("X-Api-Key", key)
            .header("Content-Type", "application/json")
            .body(format!("{{ \"grower\": \"G-11\", \"bins\": {bins} }}"))
            .send()
            .await?;
        let status = booked.status();
        let booked: serde_json::Value = serde_json::from_slice(&booked.bytes().await?)?;
        let id = booked["id"].as_str().ok_or("no id")?;
        if status != 201 || booked["bins"] != bins {
            return Err("the lot was not booked in".into());
        }
        let read = client.get(format!("{base}/lots/{id}")).send().await?;
        let status = read.status();
        let read: serde_json::Value = serde_json::from_slice(&read.bytes().await?)?;
        if status != 200 || read["id"] != id {
            return Err("another lot came back".into());
        }
    }
    Ok(())
}

async fn reads(client: &reqwest::Client, base: &str, times: u32) -> Result<(), Box<dyn std::error::Error>> {
    for _ in 0..times {
        let read = client.get(format!("{base}/lots/L-2039")).send().await?;
        let status = read.status();
        let read: serde_json::Value = serde_json::from_slice(&read.bytes().await?)?;
        if status != 200 || read["bins"] != 18 {
            return Err("another lot came back".into());
        }
    }
    Ok(())
}
