//! The program: parses the command line and calls the library.

use std::process::ExitCode;

use clap::Parser;

#[tokio::main]
async fn main() -> ExitCode {
    let command = vaaka::cli::CommandLine::parse();
    match vaaka::cli::run(command).await {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("vaaka: {error}");
            match error {
                vaaka::AppError::Input(_) => ExitCode::from(2),
                _ => ExitCode::FAILURE,
            }
        }
    }
}
