//! Photographs and documents: kept as they came, each with its hash.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use serde_json::json;
use sha2::{Digest, Sha256};
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::{CertificateId, CheckId, FileId, InstrumentId, PersonId, PlanVersionId};
use crate::schema::{files, people};
use crate::types::At;

/// What a file belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Owner {
    /// An instrument.
    Instrument(InstrumentId),
    /// A certificate.
    Certificate(CertificateId),
    /// A check.
    Check(CheckId),
    /// A plan version: a scan of its paper sheet.
    Sheet(PlanVersionId),
}

impl Owner {
    fn chain(self) -> String {
        match self {
            Self::Instrument(id) => format!("instrument:{id}"),
            Self::Certificate(id) => format!("certificate:{id}"),
            Self::Check(id) => crate::audit::chain(id),
            Self::Sheet(id) => format!("paper:{id}"),
        }
    }
}

/// A file that is to be kept.
#[derive(Debug, Clone)]
pub struct NewFile<'a> {
    /// What it belongs to.
    pub owner: Owner,
    /// Its name.
    pub name: &'a str,
    /// Its media type.
    pub media_type: &'a str,
    /// Its bytes.
    pub bytes: &'a [u8],
    /// What it shows.
    pub caption: &'a str,
    /// Who brought it.
    pub person: PersonId,
    /// When.
    pub at: At,
}

/// A file without its bytes.
#[derive(Debug, Clone, Queryable)]
pub struct FileBrief {
    /// Id.
    pub id: FileId,
    /// Name.
    pub name: String,
    /// Media type.
    pub media_type: String,
    /// Caption.
    pub caption: String,
    /// When it came.
    pub at: At,
    /// Who brought it.
    pub person: String,
}

/// Keeps a file with its audit entry. What is sent to a check twice with the same words, because an answer was lost or a
/// button pressed again, is one file.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn keep(
    connection: &mut AsyncPgConnection,
    new: &NewFile<'_>,
) -> Result<FileId, StoreError> {
    let hash = Sha256::digest(new.bytes).to_vec();
    let (instrument, certificate, check, sheet) = match new.owner {
        Owner::Instrument(id) => (Some(id), None, None, None),
        Owner::Certificate(id) => (None, Some(id), None, None),
        Owner::Check(id) => (None, None, Some(id), None),
        Owner::Sheet(id) => (None, None, None, Some(id)),
    };
    connection
        .transaction(async |connection| {
            let chain = new.owner.chain();
            match new.owner {
                Owner::Instrument(id) => crate::instruments::lock(connection, id).await?,
                Owner::Check(id) => crate::checks::lock(connection, id).await?,
                Owner::Certificate(_) | Owner::Sheet(_) => audit::hold(connection, &chain).await?,
            }
            if let Some(check) = check {
                let same: Option<FileId> = files::table
                    .filter(files::check_id.eq(check))
                    .filter(files::sha256.eq(&hash))
                    .filter(files::caption.eq(new.caption))
                    .select(files::id)
                    .first(connection)
                    .await
                    .optional()?;
                if let Some(id) = same {
                    return Ok(id);
                }
            }
            let id: FileId = diesel::insert_into(files::table)
                .values((
                    files::instrument_id.eq(instrument),
                    files::certificate_id.eq(certificate),
                    files::check_id.eq(check),
                    files::plan_version_id.eq(sheet),
                    files::name.eq(new.name),
                    files::media_type.eq(new.media_type),
                    files::bytes.eq(new.bytes),
                    files::sha256.eq(&hash),
                    files::caption.eq(new.caption),
                    files::person_id.eq(new.person),
                    files::at.eq(new.at),
                ))
                .returning(files::id)
                .get_result(connection)
                .await?;
            audit::record(
                connection,
                &Happening {
                    chain: &chain,
                    at: new.at.0,
                    person: Some(new.person),
                    action: "file_kept",
                    detail: json!({ "file": id, "name": new.name, "sha256": hex::encode(&hash) }),
                },
            )
            .await?;
            Ok(id)
        })
        .await
}

/// Files of an owner, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of(
    connection: &mut AsyncPgConnection,
    owner: Owner,
) -> Result<Vec<FileBrief>, StoreError> {
    let mut query = files::table
        .inner_join(people::table.on(people::id.eq(files::person_id)))
        .order(files::id)
        .select((
            files::id,
            files::name,
            files::media_type,
            files::caption,
            files::at,
            people::name,
        ))
        .into_boxed();
    query = match owner {
        Owner::Instrument(id) => query.filter(files::instrument_id.eq(id)),
        Owner::Certificate(id) => query.filter(files::certificate_id.eq(id)),
        Owner::Check(id) => query.filter(files::check_id.eq(id)),
        Owner::Sheet(id) => query.filter(files::plan_version_id.eq(id)),
    };
    Ok(query.load(connection).await?)
}

/// A file with its bytes: name, media type, bytes.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn read(
    connection: &mut AsyncPgConnection,
    id: FileId,
) -> Result<(String, String, Vec<u8>), StoreError> {
    Ok(files::table
        .find(id)
        .select((files::name, files::media_type, files::bytes))
        .first(connection)
        .await?)
}
