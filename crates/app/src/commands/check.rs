//! `gossip check`: the configuration against the real database.

use gossip_server::config::Config;
use gossip_server::instance::{check_queries, check_rules};
use gossip_source::sqlite::triggers;
use serde_json::json;

use crate::cli::{ConfigFile, Failure, Outcome, print_line};
use crate::local::source;

/// Arguments of `check`.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    file: ConfigFile,
    /// Print one JSON object.
    #[arg(long)]
    json: bool,
}

/// Prints what was found. Fails if anything keeps a rule or table from working.
pub fn run(args: &Args) -> Outcome {
    let config = Config::read(&args.file.config).map_err(Failure::usage)?;
    let source = source(&config)?;
    let mut findings = triggers::check(&source).map_err(Failure::connect)?;
    let path = config.path.display();
    let rules = check_rules(&config.rules, &source).map_err(Failure::connect)?;
    let queries = check_queries(&config.queries, &source).map_err(Failure::connect)?;
    for problem in rules.into_iter().chain(queries) {
        let (line, text) = problem.trim_start_matches("line ").split_once(": ").unwrap_or(("?", &problem));
        findings.push(gossip_source::Finding {
            blocks: true,
            about: format!("{path}:{line}"),
            text: text.to_string(),
            mend: None,
        });
    }
    let tables_with_rules: Vec<&str> = config.rules.iter().map(|r| &*r.table.name).collect();
    for table in config.tables.iter().filter(|t| !tables_with_rules.contains(&t.as_str())) {
        findings.push(gossip_source::Finding {
            blocks: false,
            about: table.clone(),
            text: "no rule grants anything on it: nobody can read it".into(),
            mend: Some("add a [[rule]] with this table".into()),
        });
    }
    if let Some(auth) = &config.auth
        && let Err(e) = gossip_server::auth::Tokens::from_env(auth.clone())
    {
        findings.push(gossip_source::Finding { blocks: true, about: "auth".into(), text: e, mend: None });
    }
    let blocking = findings.iter().filter(|f| f.blocks).count();
    if args.json {
        let list: Vec<_> = findings
            .iter()
            .map(|f| json!({"blocks": f.blocks, "about": f.about, "text": f.text, "mend": f.mend}))
            .collect();
        print_line(&json!({"ok": blocking == 0, "findings": list}).to_string())?;
    } else {
        for f in &findings {
            print_line(&format!("{} {f}", if f.blocks { "✗" } else { "!" }))?;
        }
        if findings.is_empty() {
            print_line("everything fits")?;
        }
    }
    match blocking {
        0 => Ok(()),
        1 => Err(Failure::check("1 finding keeps something from working")),
        n => Err(Failure::check(format!("{n} findings keep something from working"))),
    }
}
