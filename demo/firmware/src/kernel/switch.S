/* Context switch: the hardware saves R0 to R3, R12, LR, PC and xPSR, this saves the rest. */
    .syntax unified
    .cpu cortex-m3
    .thumb

    .section .text.pendsv_handler, "ax"
    .global pendsv_handler
    .type pendsv_handler, %function
    .thumb_func
pendsv_handler:
    mrs     r0, psp
    stmdb   r0!, {r4-r11}
    ldr     r1, =kernel_current
    ldr     r2, [r1]
    str     r0, [r2]
    push    {r3, lr}
    cpsid   i
    bl      kernel_choose
    cpsie   i
    pop     {r3, lr}
    ldr     r0, [r0]
    ldmia   r0!, {r4-r11}
    msr     psp, r0
    bx      lr
    .ltorg
    .size pendsv_handler, . - pendsv_handler

/* Starts the first task. No size and no type beyond the label: assembly as it is found. */
    .section .text.svcall_handler, "ax"
    .global svcall_handler
    .thumb_func
svcall_handler:
    ldr     r1, =kernel_current
    ldr     r2, [r1]
    ldr     r0, [r2]
    ldmia   r0!, {r4-r11}
    msr     psp, r0
    mvn     lr, #2
    bx      lr
    .ltorg
