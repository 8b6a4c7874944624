//! SQL that is written by hand and prepared once a connection. Diesel prepares the text of
//! `sql_query` anew at each call, and planning a query with several probes takes longer than
//! running it.

use diesel::expression::{Expression, ValidGrouping, is_aggregate};
use diesel::pg::Pg;
use diesel::query_builder::{AstPass, Query, QueryFragment, QueryId};
use diesel::sql_types::{Array, BigInt, Bool, Untyped};
use diesel::{AppearsOnTable, QueryResult};

/// A value of a query.
#[derive(Debug, Clone)]
pub enum Bind {
    /// A number or an id.
    Int(i64),
    /// Ids.
    Ints(Vec<i64>),
}

/// A query by its text, with a `?` for each value. The text is constant, so that it is prepared
/// once and its plan may be kept.
#[derive(Debug, Clone)]
pub struct Prepared {
    sql: &'static str,
    binds: Vec<Bind>,
}

/// Makes one.
#[must_use]
pub fn prepared(sql: &'static str, binds: Vec<Bind>) -> Prepared {
    Prepared { sql, binds }
}

impl QueryId for Prepared {
    type QueryId = ();
    // The text decides, not the type.
    const HAS_STATIC_QUERY_ID: bool = false;
}

impl Query for Prepared {
    type SqlType = Untyped;
}

impl<C> diesel::RunQueryDsl<C> for Prepared {}

impl QueryFragment<Pg> for Prepared {
    fn walk_ast<'b>(&'b self, mut out: AstPass<'_, 'b, Pg>) -> QueryResult<()> {
        let mut binds = self.binds.iter();
        let mut pieces = self.sql.split('?').peekable();
        while let Some(piece) = pieces.next() {
            out.push_sql(piece);
            if pieces.peek().is_none() {
                break;
            }
            match binds.next() {
                Some(Bind::Int(value)) => out.push_bind_param::<BigInt, _>(value)?,
                Some(Bind::Ints(values)) => out.push_bind_param::<Array<BigInt>, _>(values)?,
                None => {
                    let words = format!("a value is missing in “{}”", self.sql);
                    return Err(diesel::result::Error::QueryBuilderError(words.into()));
                }
            }
        }
        Ok(())
    }
}

/// A condition by its text, with no value in it. Unlike Diesel's own literal it may be kept prepared, because
/// the text is constant.
#[derive(Debug, Clone, Copy)]
pub struct Condition(pub &'static str);

impl QueryId for Condition {
    type QueryId = ();
    // The text decides, not the type.
    const HAS_STATIC_QUERY_ID: bool = false;
}

impl Expression for Condition {
    type SqlType = Bool;
}

impl<From> AppearsOnTable<From> for Condition {}

impl<GroupBy> ValidGrouping<GroupBy> for Condition {
    type IsAggregate = is_aggregate::Never;
}

impl QueryFragment<Pg> for Condition {
    fn walk_ast<'b>(&'b self, mut out: AstPass<'_, 'b, Pg>) -> QueryResult<()> {
        out.push_sql(self.0);
        Ok(())
    }
}
