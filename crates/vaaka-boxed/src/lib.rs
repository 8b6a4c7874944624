//! `#[boxed]`: an `async fn` whose future is boxed where it is defined.
//!
//! The code of an `async fn` is generated where it is awaited, and whether its future may cross threads is proven there. For the queries
//! of the store, whose types are deep, that made the pages take five times as long to build, once for the program and
//! once for its tests. Boxed, both happen once, in the store.
//!
//! A function without lifetimes of its own becomes one with a single lifetime for all that it borrows, around the function as it was written:
//!
//! ```ignore
//! pub fn by_id<'boxed>(connection: &'boxed mut Connection, id: Id) -> Pin<Box<dyn Future<Output = Row> + Send + 'boxed>> {
//!     async fn plain(connection: &mut Connection, id: Id) -> Row { … }
//!     Box::pin(plain(connection, id))
//! }
//! ```
//!
//! The compiler remembers what it has proven from one function to the next only where no bounds on lifetimes stand around
//! it: a macro that bounds one lifetime by another costs half a second a function.

use proc_macro::TokenStream;
use quote::quote;
use syn::visit_mut::{VisitMut, visit_type_mut, visit_type_reference_mut};
use syn::{
    FnArg, Ident, ItemFn, Lifetime, Pat, ReturnType, Type, TypeReference, parse_macro_input,
    parse_quote,
};

/// Gives every borrow without a name the one lifetime of the box.
struct Name;

impl VisitMut for Name {
    fn visit_type_reference_mut(&mut self, reference: &mut TypeReference) {
        reference.lifetime.get_or_insert_with(|| parse_quote!('boxed));
        visit_type_reference_mut(self, reference);
    }

    fn visit_lifetime_mut(&mut self, lifetime: &mut Lifetime) {
        if lifetime.ident == "_" {
            *lifetime = parse_quote!('boxed);
        }
    }

    fn visit_type_mut(&mut self, one: &mut Type) {
        // What a function borrows has lifetimes of its own.
        if !matches!(one, Type::BareFn(_)) {
            visit_type_mut(self, one);
        }
    }
}

/// Boxes the future of an `async fn` that stands by itself: no method, no type parameters, no lifetimes of its own.
#[proc_macro_attribute]
pub fn boxed(_: TokenStream, item: TokenStream) -> TokenStream {
    let written = parse_macro_input!(item as ItemFn);
    let mut plain = written.clone();
    plain.attrs.clear();
    plain.vis = syn::Visibility::Inherited;
    plain.sig.ident = Ident::new("plain", written.sig.ident.span());
    let mut outer = written.sig;
    if outer.asyncness.take().is_none() || !outer.generics.params.is_empty() {
        let words = "#[boxed] is for an async fn without parameters for types and lifetimes";
        return syn::Error::new(outer.ident.span(), words).to_compile_error().into();
    }
    let mut names = Vec::new();
    for (place, argument) in outer.inputs.iter_mut().enumerate() {
        let FnArg::Typed(argument) = argument else {
            return syn::Error::new(outer.ident.span(), "#[boxed] is not for methods")
                .to_compile_error()
                .into();
        };
        // A pattern is taken apart inside; outside it is one argument.
        let name = match &*argument.pat {
            Pat::Ident(one) => one.ident.clone(),
            _ => quote::format_ident!("argument{place}"),
        };
        argument.pat = parse_quote!(#name);
        Name.visit_type_mut(&mut argument.ty);
        names.push(name);
    }
    let output: Type = match &outer.output {
        ReturnType::Default => parse_quote!(()),
        ReturnType::Type(_, output) => {
            let mut output = (**output).clone();
            Name.visit_type_mut(&mut output);
            output
        }
    };
    outer.generics = parse_quote!(<'boxed>);
    outer.output = parse_quote!(
        -> ::core::pin::Pin<Box<dyn ::core::future::Future<Output = #output> + Send + 'boxed>>
    );
    let (attributes, visibility) = (written.attrs, written.vis);
    quote! {
        #(#attributes)*
        #visibility #outer {
            #plain
            Box::pin(plain(#(#names),*))
        }
    }
    .into()
}
