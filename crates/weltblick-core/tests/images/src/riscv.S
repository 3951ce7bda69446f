/* The reset code of a RISC-V core, at the very beginning; `fall_through` runs into the function after it. */
    .section .vectors, "ax"
    .globl _start
    .type _start, %function
_start:
    la sp, stack_top
    call start
1:  j 1b
    .size _start, . - _start

    .globl label_only
label_only:
    nop
    nop
    ret
    .globl after_it
after_it:
    ret
