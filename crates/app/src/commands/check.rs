//! `gossip check`: the configuration against the real database.

use gossip_server::auth::Tokens;
use gossip_server::config::Config;
use gossip_server::instance::{check_queries, check_rules, conditions};
use gossip_source::Finding;
use serde_json::json;

use crate::config_file::ConfigFile;
use crate::local::{ANYBODY, SET_A_SECRET, keys, source};
use crate::outcome::{Failure, Outcome, print_line};
use crate::personas::Personas;

/// Arguments of `check`.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    file: ConfigFile,
    /// Print one JSON object.
    #[arg(long)]
    json: bool,
}

/// Prints the findings. Fails if any of them keeps a rule or table from working.
///
/// # Errors
/// The configuration or the database cannot be read, or something keeps a rule or table from working.
pub async fn run(args: &Args) -> Outcome {
    let config = Config::read(&args.file.config).map_err(Failure::usage)?;
    Personas::read(&args.file.config).map_err(Failure::usage)?;
    // Blocks on the database.
    let mut findings = tokio::task::block_in_place(|| findings(&config))?;
    let mut names = Vec::new();
    match gossip_relay::connect(&config.relay, &config.name).await {
        Ok(relay) => names = relay.standing().names,
        Err(e) => findings.push(Finding {
            blocks: true,
            about: "relay".into(),
            text: e.to_string(),
            fix: Some("start the broker, or change relay.url".into()),
        }),
    }
    tell(args, &findings, &names)
}

fn findings(config: &Config) -> Result<Vec<Finding>, Failure> {
    let source = source(config)?;
    let needs = conditions(&config.rules, &config.queries, &*source).map_err(Failure::connect)?;
    let mut findings = source.check(&needs).map_err(Failure::connect)?;
    let path = config.path.display();
    let rules = check_rules(&config.rules, &*source, config.topics.values()).map_err(Failure::connect)?;
    let queries = check_queries(&config.queries, &*source, config.topics.values()).map_err(Failure::connect)?;
    for problem in rules.into_iter().chain(queries) {
        let (line, text) = problem.trim_start_matches("line ").split_once(": ").unwrap_or(("?", &problem));
        findings.push(Finding { blocks: true, about: format!("{path}:{line}"), text: text.to_string(), fix: None });
    }
    let has_rule = |table: &&String| config.rules.iter().any(|r| source.is_table(table, &r.table));
    for table in source.tables().iter().filter(|t| !has_rule(t)) {
        findings.push(Finding {
            blocks: false,
            about: table.clone(),
            text: "no rule grants anything on it: nobody can read it".into(),
            fix: Some("add a [[rule]] with this table".into()),
        });
    }
    let tokens = config.auth.as_ref().map(|auth| Tokens::from_env(auth.clone(), config.base())).transpose();
    let tokens = tokens.unwrap_or_else(|e| {
        findings.push(Finding { blocks: true, about: "auth".into(), text: e, fix: None });
        None
    });
    let relay = |blocks, text: String, fix: Option<&str>| {
        let (about, fix) = ("relay".into(), fix.map(String::from));
        Finding { blocks, about, text, fix }
    };
    match keys(config, tokens.as_ref()) {
        Err(e) => findings.push(relay(true, e.text, None)),
        Ok(None) if !config.relay.url.starts_with("inproc:") => {
            findings.push(relay(false, ANYBODY.into(), Some(SET_A_SECRET)));
        }
        Ok(_) => {}
    }
    Ok(findings)
}

fn tell(args: &Args, findings: &[Finding], names: &[(&str, String)]) -> Outcome {
    let blocking = findings.iter().filter(|f| f.blocks).count();
    if args.json {
        let list: Vec<_> = findings
            .iter()
            .map(|f| json!({"blocks": f.blocks, "about": f.about, "text": f.text, "fix": f.fix}))
            .collect();
        let names: Vec<_> = names.iter().map(|(what, name)| json!({"what": what, "name": name})).collect();
        print_line(&json!({"ok": blocking == 0, "findings": list, "on_the_broker": names}).to_string())?;
    } else {
        for f in findings {
            print_line(&format!("{} {f}", if f.blocks { "✗" } else { "!" }))?;
        }
        if findings.is_empty() {
            print_line("no problems found")?;
        }
        if !names.is_empty() {
            print_line("on the broker, an instance needs to")?;
        }
        for (what, name) in names {
            print_line(&format!("  {what}: {name}"))?;
        }
    }
    match blocking {
        0 => Ok(()),
        1 => Err(Failure::check("1 problem to fix")),
        n => Err(Failure::check(format!("{n} problems to fix"))),
    }
}
