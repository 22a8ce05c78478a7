"""What is to be found in each dump: first function of the program's own (or several that are right), functions that follow in this
order, the module to blame (None: any or none), whether the dump proves it (None: either)."""

P, L = 'program', 'libfeeder.so'


def chain(name, suspect=P, proven=True):
    return (f'{name}_inner', [f'{name}_outer', 'main'], suspect, proven)


C = {name: chain(name) for name in (
    'null_write', 'near_null', 'null_call', 'wild', 'division', 'asserts', 'constant', 'string_null', 'copy_null', 'jump_data',
    'handler_aborts', 'handler_reraises', 'misaligned_code')}
C |= {name: chain(name, proven=False) for name in ('double_free', 'bad_free', 'mapped_cut')}
C |= {name: chain(name, proven=None) for name in ('heap_overrun', 'raised', 'no_memory', 'after_free')}
C |= {name: (f'{name}_inner', ['main'], P, True) for name in ('trap', 'aborts')}
C |= {name: (f'{name}_inner', ['main'], None, False) for name in ('other_process', 'quit_from_parent')}
C |= {
    'smash': ('smash_inner', [], P, None),
    'fortified': ('fortified_inner', [], P, None),
    'callback': ('compare_items', ['callback_inner', 'callback_outer', 'main'], P, True),
    'recursion': ('recursion_deep', ['recursion_deep', 'recursion_deep'], P, True),
    'alt_stack': ('recursion_deep', ['recursion_deep'], P, True),
    'thread': ('worker_step', ['worker_main'], P, True),
    'thread_recursion': ('thread_deep', ['thread_deep'], P, True),
    'long_chain': ('chain3', ['chain2', 'long_chain_inner', 'long_chain_outer', 'main'], P, True),
    'library': ('feeder_fill', ['feeder_push', 'library_inner', 'library_outer', 'main'], L, True),
    'library_null': ('chain3', ['feeder_call', 'library_null_inner', 'library_null_outer', 'main'], P, True),
    'deadlock': ('deadlock_inner', ['deadlock_outer', 'main'], None, False),
}

CPP = {name: (f'dosing::{name}', ['main'], P, True) for name in (
    'null_virtual', 'string_from_null', 'rethrow', 'joinless', 'too_much', 'pointer_empty')}
CPP |= {
    'throws': ('dosing::throws_inner', ['dosing::throws_outer', 'main'], P, True),
    'nothrow': (('dosing::throws_inner', 'dosing::nothrow_inner'), ['main'], P, True),
    'at': ('dosing::at_inner', ['main'], P, True),
    'lambda': (('dosing::lambda_inner', 'std::_Function_handler'), ['main'], P, True),
    'in_thread': (('dosing::throws_inner', 'dosing::in_thread'), [], P, True),
    # Both call a pure function while the object is being made.
    'deleted': ('dosing::Pump::start', ['dosing::deleted', 'main'], P, None),
    'pure': ('dosing::Pump::start', ['pure_inner', 'main'], P, True),
    'template': (('dosing::Tank<long>::drain', 'dosing::Tank'), ['template_inner', 'main'], P, True),
}

RUST = {name: (f'faults::{name}_inner', ['faults::main'], P, True) for name in (
    'unwrap', 'index', 'overflow', 'null', 'abort', 'borrow', 'expect', 'slice', 'double')}
RUST |= {
    'deep': ('faults::deep_inner', ['faults::deep_inner'], P, True),
    'thread': ('faults::thread_step', [], P, True),
}

GO = {name: (f'main.{name}Inner', ['main.main'], P, True) for name in ('nil', 'index', 'map', 'wild', 'panic', 'cast')}
GO |= {
    'deep': ('main.deepInner', ['main.deepInner'], P, True),
    'routine': ('main.routineStep', [], P, True),
    'lock': ('main.lockInner', ['main.main'], P, None),
}

W = 'program.exe'
WINDOWS = {name: chain(name, suspect=W) for name in (
    'null_write', 'near_null', 'null_call', 'wild', 'division', 'constant', 'string_null', 'raised', 'jump_data')}
WINDOWS |= {
    'trap': ('trap_inner', ['main'], W, True),
    'callback': ('compare_items', ['callback_inner', 'callback_outer', 'main'], W, True),
    'long_chain': ('chain3', ['chain2', 'long_chain_inner', 'long_chain_outer', 'main'], W, True),
    'thread': ('worker_step', ['worker_main'], W, True),
    'library': ('feeder_fill', ['feeder_push', 'library_inner', 'library_outer', 'main'], 'feeder.dll', True),
    'hang': ('hang_inner', ['hang_outer', 'main'], None, False),
}
