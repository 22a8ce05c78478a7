use std::hint::black_box as b;
#[inline(never)] fn unwrap_inner(n: usize) -> usize { let none: Option<usize> = b(None); none.unwrap() + n }
#[inline(never)] fn index_inner(n: usize) -> usize { let v = b(vec![1usize, 2]); v[n + 10] }
#[inline(never)] fn overflow_inner(n: usize) -> usize { let m: u8 = b(255); (m + b(1)) as usize + n }
#[inline(never)] fn null_inner(n: usize) -> usize { let p: *mut usize = b(std::ptr::null_mut()); unsafe { p.write_volatile(n) }; n }
#[inline(never)] fn abort_inner(n: usize) -> usize { if b(true) { std::process::abort() } n }
#[inline(never)] fn deep_inner(n: usize) -> usize { let room = b([n; 200]); b(deep_inner(n + 1)) + room[3] }
#[inline(never)] fn borrow_inner(n: usize) -> usize { let c = std::cell::RefCell::new(n); let _g = c.borrow_mut(); let h = c.borrow_mut(); *h }
#[inline(never)] fn expect_inner(n: usize) -> usize { let r: Result<usize, String> = b(Err("no tank".into())); r.expect("tank") + n }
#[inline(never)] fn slice_inner(n: usize) -> usize { let s = b("grüße"); s[n + 3..].len() }
#[inline(never)] fn thread_step(n: usize) -> usize { panic!("thread fails {n}") }
#[inline(never)] fn thread_inner(n: usize) -> usize { std::thread::Builder::new().name("filler".into()).spawn(move || b(thread_step(n))).unwrap().join().unwrap() }
struct Bad; impl Drop for Bad { fn drop(&mut self) { panic!("again") } }
#[inline(never)] fn double_inner(n: usize) -> usize { let _b = Bad; if b(true) { panic!("first") } n }
fn main() {
    let word = std::env::args().nth(1).unwrap_or_default();
    let f: fn(usize) -> usize = match word.as_str() {
        "unwrap" => unwrap_inner, "index" => index_inner, "overflow" => overflow_inner, "null" => null_inner, "abort" => abort_inner,
        "deep" => deep_inner, "borrow" => borrow_inner, "expect" => expect_inner, "slice" => slice_inner, "thread" => thread_inner,
        "double" => double_inner, _ => std::process::exit(2) };
    let r = b(f)(b(0));
    println!("{r}");
}
