//! `fendle completions` and `fendle manual`.

use clap::CommandFactory;
use fendle_ask::End;

use crate::args::Cli;
use crate::session::{Ended, Session};

/// Prints a completion script.
pub fn completions(s: &mut Session, shell: clap_complete::Shell) -> Ended {
    let mut text = vec![];
    clap_complete::generate(shell, &mut Cli::command(), "fendle", &mut text);
    s.out.write_all(&text)?;
    Ok(End::Yes)
}

/// Prints the manual page: the program, then each command.
pub fn manual(s: &mut Session) -> Ended {
    let mut text = vec![];
    let mut root = Cli::command();
    root.build();
    clap_mangen::Man::new(root.clone()).render(&mut text)?;
    for sub in root.get_subcommands().filter(|c| c.get_name() != "help") {
        let name = format!("fendle-{}", sub.get_name());
        let man = clap_mangen::Man::new(sub.clone().name(name));
        man.render_name_section(&mut text)?;
        man.render_synopsis_section(&mut text)?;
        man.render_description_section(&mut text)?;
        man.render_options_section(&mut text)?;
    }
    s.out.write_all(&text)?;
    Ok(End::Yes)
}
